"""What applications ask of a survey beside what concerns PHP itself."""

from collections.abc import Iterable, Sequence

from fundamentum.model.needs import Needs
from fundamentum.model.surrounding_needs import COMMAND
from fundamentum.model.surroundings import Asked


def asked_by(applications: Iterable[Needs], also: Sequence[str] = ()) -> Asked | None:
    """Everything that has to be looked at for these applications; None if that is nothing.

    ``also`` are commands that are looked for too, if they can be the names of any.
    """
    needs = list(applications)
    also = [name for name in also if COMMAND.fullmatch(name)]
    if not also and not any(one.around for one in needs):
        return None
    directories = [need.path for one in needs for need in one.directories]
    tasks = [need.command for one in needs for need in one.tasks]
    commands = [name for one in needs for need in one.commands for name, _ in need.alternatives]
    commands += [*also, *(["setfacl"] if directories else [])]
    return Asked(
        directories=_once([*directories, *tasks]),
        commands=_once(commands),
        products=_once([product for one in needs for need in one.databases for product, _ in need.alternatives]),
        tasks=_once(tasks),
    )


def _once(found: list[str]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(found))
