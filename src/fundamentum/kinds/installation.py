"""What an application's own installer has to write, and nothing afterwards: ``[installation]``."""

from collections.abc import Iterator, Mapping
from typing import Annotated, Any, Final

import msgspec
from msgspec.structs import replace

from fundamentum.effective.file_access import account_of, allowed, barred
from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.directories.need import placed
from fundamentum.kinds.directories.rights import closed, opened
from fundamentum.kinds.table_reader import Reader, Table, below
from fundamentum.model.findings import AGAIN, Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, NotUnderstood, Text, Value
from fundamentum.model.surrounding_facts import Account, Place
from fundamentum.platforms import platform

OPEN: Final = "open for the installer"
CLOSED: Final = "closed"


class InstallationTable(Table):
    """What the application's installer writes, and nobody afterwards; paths below the application's directory."""

    writable: Annotated[list[Text], msgspec.Meta(description="Directories and files that it writes to.")] = []
    make: Annotated[list[Text], msgspec.Meta(description="Files that have to be there for it to write to.")] = []
    done: Annotated[
        Text | None,
        msgspec.Meta(description="A file that is there once it has run; without it, that a file of make is not empty."),
    ] = None


class InstallationNeed(Value, frozen=True):
    """One directory or file that is open while the installer runs."""

    path: str
    make: bool = False
    done: tuple[str, ...] = ()
    """Files of which one that is there, and not empty, tells that the installer has run."""
    level: Level = "required"

    @property
    def key(self) -> NeedId:
        return NeedId(f"installation:{self.path}")


class Installation(Kind[InstallationNeed]):
    """Directories and files that are open for the time of the installation only."""

    prefixes = ("installation",)
    beyond_php = True
    order = 75
    tables = {"installation": InstallationTable}
    group = "installation"

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[InstallationNeed]:
        table = tables["installation"]
        done = tuple([table.done] if table.done else table.make)
        for name, paths in (("writable", table.writable), ("make", table.make), ("done", [table.done or "x"])):
            for path in paths:
                try:
                    below(path)
                except NotUnderstood as error:
                    reader.refuse(["installation", name], error, path)
        for make, paths in ((False, table.writable), (True, table.make)):
            yield from (InstallationNeed(path.rstrip("/"), make, done) for path in paths)

    def questions(self, need: InstallationNeed) -> Iterator[tuple[Question, str]]:
        yield from (("directories", path) for path in (need.path, *need.done))
        yield "commands", "setfacl"

    def judge(self, need: InstallationNeed, context: Context) -> Finding:
        """Open until the installer has run; then closed, though a check only warns where it is not."""
        survey, target = context.survey, context.target
        closing = context.needs.after_installation
        base = Finding(need=need.key, level=need.level, verdict="unknown", wanted=CLOSED if closing else OPEN)
        place = placed(need.path, survey, target)
        account = account_of(survey, target)
        if platform(survey.system.family).rights_by_name or place is None or place.kind == "unreadable" or not account:
            return replace(base, found="not known", remedy=f"see who may write to {need.path}, or {AGAIN}")
        writable = place.kind != "absent" and _writes(place, account, context)
        base = replace(base, verdict="met", found=OPEN if writable else CLOSED)
        if writable and closing:
            change = closed(place, survey, account)
        elif writable or closing or self._has_run(need, context):
            return base
        elif place.kind == "absent" and need.make:
            change = opened(place, survey, account)
            change = replace(change, empty_file=True, mode=0o640) if change else None
        else:
            change = opened(place, survey, account)
        if change is None:
            return base
        if place.loose:
            why = f"{place.loose} is a link that others than root may change: change that by hand"
            return replace(base, verdict="unmet", remedy=why)
        actual = "not there" if place.kind == "absent" else base.found
        return replace(base, verdict="unmet", found=actual, remedy=change.command_line, demands=(change,))

    @staticmethod
    def _has_run(need: InstallationNeed, context: Context) -> bool:
        places = (placed(path, context.survey, context.target) for path in need.done)
        return any(place and place.kind == "file" and place.size for place in places)

    def risky(self, finding: Finding) -> tuple[str, str]:
        """What is left open: whoever gets the application to write there changes what it runs."""
        if finding.found != OPEN or finding.verdict != "met":
            return "", ""
        why = "still open: what gets the application to write there changes what it runs from then on"
        return why, "plan with --after-installation closes it, once the application is installed"

    def words(self, need: NeedId) -> str:
        return f"{need.names[0]} for the installer"


def _writes(place: Place, account: Account, context: Context) -> bool:
    """Whether the user may write to it, and get there."""
    places = {directory.path: directory for directory in context.survey.places}
    bits = 3 if place.kind == "directory" else 2
    return allowed(place, account) & bits == bits and not barred(place, places, account)


KIND = Installation()
