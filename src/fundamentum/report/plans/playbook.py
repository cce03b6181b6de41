"""A plan as an Ansible playbook, for those with many servers: Ansible's own modules, checkable and repeatable."""

from collections.abc import Iterable, Iterator
from typing import IO, Any, Final

import yaml
from msgspec.structs import replace

from fundamentum.changes.package_source import AddSource
from fundamentum.changes.pool import AddPool
from fundamentum.changes.primitives import DECIDED
from fundamentum.changes.service import Restart
from fundamentum.errors import FundamentumError
from fundamentum.kinds import reason_in_words
from fundamentum.model.survey import Survey
from fundamentum.plan.made_plan import Plan
from fundamentum.platforms import families, platform
from fundamentum.report.ansible_parts import Parts
from fundamentum.report.ansible_tasks import handler, taken_up, tasks_of
from fundamentum.report.ansible_text import Dumper, Ours, keyed
from fundamentum.report.escape import clean
from fundamentum.report.written_text import write_out

HOSTS: Final = "{{ target | mandatory('name the servers that are meant: -e target=GROUP') }}"


def write(stream: IO[str], plan: Plan, survey: Survey | None, *, full: bool = False) -> None:
    """The playbook, to the stream."""
    write_out(as_playbook(plan), stream)


def as_playbook(plan: Plan) -> str:
    """The playbook.  Words from a server or an application are marked as data, so that no template in them acts."""
    if not platform(plan.family).carried_out and not plan.empty:
        raise FundamentumError(f"{plan.server}: a playbook can be written for the {families()} only")
    # The keys are all ours; so that they are not marked, the dumper is given them as such.
    head = [f"Made for {plan.server}; run it on servers that are like it.", *_about(plan)]
    text: str = yaml.dump([keyed(play_of(plan))], Dumper=Dumper, sort_keys=False, allow_unicode=True, width=110)
    return "---\n" + "".join(f"# {clean(line)}\n" for line in head) + text


def play_of(plan: Plan) -> dict[str, Any]:
    """The one play of the playbook, as Ansible reads it; what is not an ``Ours`` in it is data."""
    restarting = [handler(restart.service) for restart in plan.of(Restart) if restart.reads]
    decided = [step for step in plan.steps if step.operation.KIND in DECIDED]
    steps = [step for step in plan.steps if step not in decided]
    parts = Parts(plan)
    first = (task for step in decided for task in tasks_of(step.operation, plan, restarting))
    then = (task for step in steps for task in tasks_of(step.operation, plan, restarting))
    tasks = list(_once((*first, *parts.looks(), *then, *parts.proof())))
    # One that has to run may run already, with what there was before.
    reading = [
        replace(restart, verb="restart") if restart.verb == "start" else restart
        for restart in plan.of(Restart)
        if restart.reads
    ]
    handlers = [task for restart in reading for task in taken_up(restart, platform(plan.family))]
    names = ", ".join(application.name for application in plan.applications)
    play: dict[str, Any] = {
        "name": f"What {names} needs",
        "hosts": Ours(HOSTS),
        "become": True,
        "gather_facts": False,
        "tasks": tasks,
    }
    if handlers:
        play["handlers"] = handlers
    if parts.variables:
        play["vars"] = parts.variables  # last: they are long
    return play


def _once(tasks: Iterable[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    """The tasks, those that prepare something for several of them only once."""
    prepared: list[dict[str, Any]] = []
    for task in tasks:
        if isinstance(task["name"], Ours) and task in prepared:
            continue
        prepared.append(task)
        yield task


def _about(plan: Plan) -> list[str]:
    lines = [
        "Choose them with -e target=GROUP; without, it stops.",
        "Where no init system runs, -e skip_restart=true leaves services alone.",
        "Try it with --check first.",
    ]
    lines += [f"Package source to be configured first: {source.source}" for source in plan.of(AddSource)]
    lines += [f"  {change.key}: {reason_in_words(reason)}" for change, reason in plan.why_all(plan.changes)]
    if plan.along:
        lines.append(f"Packages that come along: {', '.join(plan.along)}")
    decided = [plan.consequences[pool.key] for pool in plan.of(AddPool) if pool.key in plan.consequences]
    lines += [f"To be decided: {words}" for words in decided]
    lines += [f"Not resolved: {need.application} {need.need} ({need.level}): {need.why}" for need in plan.unresolved]
    return lines
