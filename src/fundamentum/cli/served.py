"""No application named: those that the server serves, each judged for its own site."""

import argparse
import posixpath
import sys
from collections import deque
from collections.abc import Mapping
from datetime import date
from pathlib import Path
from typing import Final

import msgspec
from msgspec.structs import replace

from fundamentum.cli.applications import needs_files
from fundamentum.cli.derivation import derived
from fundamentum.cli.derivations import derived_together
from fundamentum.cli.messages import write_remarks
from fundamentum.derive.application.cache import Answer
from fundamentum.entries import entry
from fundamentum.errors import InputError, SeveralApplications
from fundamentum.kinds import asked_by
from fundamentum.model.needs import Needs
from fundamentum.model.served import Served
from fundamentum.model.survey import Survey
from fundamentum.needs.file import load, parse
from fundamentum.survey.served_applications import served
from fundamentum.survey.server_reference import host_of, look
from fundamentum.untrusted.secrets import without_credentials

MAX_SITES: Final = 200
_ONLY_FILES = "tells nothing of the applications: name an APP, or give the server itself or its root directory"


class ServedApplication(msgspec.Struct, frozen=True):
    """An application that a site serves."""

    served: Served
    needs: Needs


class Server(msgspec.Struct, frozen=True):
    """What a server serves."""

    survey: Survey
    applications: tuple[ServedApplication, ...]
    others: tuple[Served, ...]
    """Sites of which that cannot be told, each with why."""


def on_server(options: argparse.Namespace) -> Server:
    """The applications of a server that can be read as files."""
    reference = options.server
    if reference is not None and ("://" in reference or not Path(reference).is_dir()):
        raise InputError("://".join(reference.split("://")[:1]) if "://" in reference else reference, _ONLY_FILES)
    for name in ("runtime", "directory"):
        if getattr(options, name):
            raise InputError(f"--{name}", "says where an application stands: name that APP")
    first = look(reference, sudo=options.sudo, ask=options.ask)
    applications: list[ServedApplication] = []
    others: list[Served] = []
    known: dict[Path, Needs] = {}
    todo = deque(served(first, host_of(reference)))
    answers = derived_together(each.directory for each in [*todo][:MAX_SITES] if each.directory is not None)
    while todo and len(applications) < MAX_SITES:
        application = todo.popleft()
        if application.directory is None:
            others.append(application)
            continue
        try:
            needs = known[application.directory] = known.get(application.directory) or _needs(application, answers)
        except SeveralApplications as error:
            todo.extendleft(_within(application, name) for name in reversed(error.names))
        except InputError as error:
            others.append(replace(application, why=str(error).removeprefix(f"{application.directory}: ")))
        else:
            applications.append(ServedApplication(application, needs))
    if todo:
        write_remarks([f"{todo[0].site} and {len(todo) - 1} more are not looked at: name an APP for those"])
    asked = asked_by([each.needs for each in applications])
    survey = look(reference, sudo=options.sudo, ask=options.ask, asked=asked) if applications else first
    return Server(survey, tuple(applications), tuple(others))


def _within(application: Served, name: str) -> Served:
    """One of several applications below a document root."""
    assert application.directory is not None
    return replace(application, folder=posixpath.join(application.folder, name), directory=application.directory / name)


def _needs(application: Served, answers: Mapping[Path, Answer]) -> Needs:
    """What its directory tells; a needs file in it may add to that, and takes nothing away: it is somebody else's."""
    assert application.directory is not None
    answer = answers.get(application.directory) or derived(application.directory)
    write_remarks(f"{application.site}: {remark}" for remark in answer.remarks)
    needs = parse(answer.text, f"{answer.name} (derived)")
    for path in needs_files(application.directory)[:1]:
        try:
            beside_it = load(path)
        except InputError as error:
            write_remarks([f"{application.site}: {error}: not counted"])
            continue
        levels = {need.key: need.level for need in needs.needs if hasattr(need, "level")}
        added = [need for need in beside_it.needs if need.key not in {own.key for own in needs.needs}]
        raised = {
            need.key: need for need in beside_it.needs if levels.get(need.key) == "recommended" and _required(need)
        }
        kept = [raised.get(need.key, need) for need in needs.needs]
        needs = replace(needs, needs=(*kept, *added))
    return needs


def _required(need: object) -> bool:
    return getattr(need, "level", "") == "required"


def check(options: argparse.Namespace) -> int:
    """A line for each site, then what is missing; 1 if one lacks something, or nothing is served."""
    server = on_server(options)
    judge = entry("fundamentum.check", "judge").check
    offers = entry("fundamentum.platforms", "offers").Offers(server.survey)
    judged = [
        judge(application.needs, server.survey, application.served.site, offers) for application in server.applications
    ]
    detail = "quiet" if options.quiet else "verbose" if options.verbose else "usual"
    form = entry("fundamentum.report.checks", options.format)
    text = options.format == "text"
    if text:
        rows = [
            (application.served, application.needs, judgement)
            for application, judgement in zip(server.applications, judged, strict=True)
        ]
        entry("fundamentum.report", "served_text").write_served(sys.stdout, server.survey, rows, server.others, offers)
    shown = [judgement for judgement in judged if not judgement.satisfied] if text else judged
    if shown and not (text and options.quiet):
        if text:
            sys.stdout.write("\n")
        form.write(sys.stdout, shown, server.survey, today=date.today(), following=_following(options), detail=detail)
    elif not text:
        form.write(sys.stdout, shown, server.survey, today=date.today(), following="", detail=detail)
    return 0 if judged and all(judgement.satisfied for judgement in judged) else 1


def _following(options: argparse.Namespace) -> str:
    command = f"fundamentum plan{f' --server {options.server}' if options.server else ''}"
    return "" if without_credentials(command) != command else command
