"""Changes as ordered steps, each one primitive operation, and the services that have to be restarted for them."""

from collections.abc import Iterable, Sequence
from typing import Any, cast

import msgspec

from fundamentum.changes.base import Change, Place
from fundamentum.changes.file_operations import EditFile, WriteFile
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.service import Restart
from fundamentum.model.php import Runtime
from fundamentum.platforms.base import Platform


class Step(msgspec.Struct, frozen=True):
    """One operation, and the changes that it carries out."""

    operation: Primitive
    changes: tuple[Change, ...]


def steps(changes: Iterable[Change], place: Place) -> tuple[Step, ...]:
    """The operations of all changes, those on one thing merged, in the order in which they are carried out."""
    by_object: dict[tuple[type[Primitive], str], Step] = {}
    for change in changes:
        for operation in change.lowered(place):
            key = (type(operation), operation.thing)
            there = by_object.get(key)
            if there is None:
                by_object[key] = Step(operation, (change,))
            else:
                mine = there.changes if change in there.changes else (*there.changes, change)
                by_object[key] = Step(there.operation.merged(operation), mine)
    return tuple(sorted(by_object.values(), key=_rank))


def _rank(step: Step) -> tuple[int, str]:
    path = step.operation.thing if isinstance(step.operation, WriteFile | EditFile) else ""
    return step.operation.ORDER, path


def restarts(changes: Sequence[Change], runtimes: Iterable[Runtime], platform: Platform) -> list[Restart]:
    """Every service that has to take something up, once, with what is enough for all changes."""
    touched = [
        runtime.service
        for runtime in runtimes
        if runtime.service and any(change.concerns(runtime) for change in changes)
    ]
    wanted = [(service, "restart") for service in touched]
    wanted += [pair for change in changes for pair in change.services(platform)]
    by_service: dict[str, Restart] = {}
    unread = {change.service for change in changes if isinstance(change, Restart) and not change.reads}
    for service, verb in wanted:
        restart = Restart(service, cast("Any", verb), service not in unread)
        by_service[service] = restart.joined(by_service[service]) if service in by_service else restart
    return list(by_service.values())
