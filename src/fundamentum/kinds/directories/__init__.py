"""Directories: ``[directories.required]`` and ``[directories.recommended]``."""

import shlex
from collections.abc import Iterator, Mapping
from typing import Any

from msgspec.structs import replace

from fundamentum.changes.directory import PRIVATE, ArrangeDirectory
from fundamentum.effective.confinement import judge_directory
from fundamentum.effective.file_access import account_of, allowed, inside, user_of
from fundamentum.effective.judged_sites import sites_of
from fundamentum.effective.sandboxed import in_sandbox
from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.directories.named_rights import judged_by_name
from fundamentum.kinds.directories.need import DirectoryNeed, directory, placed
from fundamentum.kinds.directories.rights import arranged
from fundamentum.kinds.table_reader import Named, Reader
from fundamentum.model.findings import AGAIN, Finding, Target, Verdict
from fundamentum.model.origin import Origin
from fundamentum.model.promises import Promise
from fundamentum.model.safe_text import is_path
from fundamentum.model.surrounding_facts import Account, Place
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform


class DirectoriesTable(Named):
    """Directories, absolute or below the application's own: "writable", "read-only", "outside" (of what is served)."""


class Directories(Kind[DirectoryNeed]):
    """Directories: there, writable or not, out of visitors' reach."""

    prefixes = ("directory",)
    beyond_php = True
    order = 70
    tables = {"directories": DirectoriesTable}
    group = "directories"

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[DirectoryNeed]:
        yield from reader.named("directories", tables["directories"], directory)

    def questions(self, need: DirectoryNeed) -> Iterator[tuple[Question, str]]:
        yield "directories", need.path
        yield "commands", "setfacl"  # whether access lists can be changed

    def judge(self, need: DirectoryNeed, context: Context) -> Finding:
        return _judged(need, context.survey, context.target)

    def promised(self, finding: Finding, context: Context) -> Iterator[Promise]:
        """That PHP's user may write to it, or read it, where it really is."""
        place = placed(finding.need.names[0], context.survey, context.target)
        path = (place.real or place.path) if place and place.kind == "directory" else ""
        if is_path(path):
            yield Promise(finding.need, "write" if "writable" in (finding.wanted or "") else "read", path, "")


def _origin(need: DirectoryNeed, place: Place) -> Origin | None:
    """Where the directory really is, if the need does not say so itself."""
    path = place.real or (place.path if place.path != need.path else "")
    return Origin(path) if path else None


def _judged(need: DirectoryNeed, survey: Survey, target: Target) -> Finding:
    """The finding for one directory."""
    base = Finding(need=need.key, level=need.level, verdict="unknown", wanted=need.text)
    place = placed(need.path, survey, target)
    if place is None:
        return replace(base, found="not known", remedy=_unplaced(need, survey, target))
    finding = replace(base, origin=_origin(need, place))
    if place.kind == "unreadable":
        return replace(finding, found="cannot be seen", remedy="survey again as a user who may look there")
    if platform(survey.system.family).rights_by_name and not place.said:
        return judged_by_name(need, place, survey, target, finding)
    if place.said:
        return _as_said(finding, need, place, survey)
    account = account_of(survey, target)
    if account is None and need.access != "there":
        who = user_of(survey, target)
        why = f"there is no user {who} here yet" if who else f"as whom {target.runtime.label} works is not known"
        return replace(finding, found=_described(place), remedy=f"{why}, so what it may do there cannot be told")
    if place.kind == "link":
        remedy = f"make what {place.path} leads to, or put a directory in its place"
        return replace(finding, verdict="unmet", found="a link to what is not there", remedy=remedy)
    if place.kind == "file":
        remedy = f"move the file {place.path} away: a directory has to be there"
        return replace(finding, verdict="unmet", found="a file", remedy=remedy)
    exposed = _served(place, survey) if need.outside else None
    change = arranged(need, place, survey, account) if account else None
    if account is None and place.kind == "absent":
        change = ArrangeDirectory(place.real or place.path, "root", make=True, owner="root", mode=PRIVATE)
    stray = _strayed(need, place, survey, target) if change else ""
    if stray and change:
        remedy = f"{stray}, which this program never changes: put a directory in its place, or change that one by hand"
        return replace(finding, verdict="unmet", found=_described(place), remedy=remedy)
    words = [_described(place)] + ([f"within the document root {exposed}"] if exposed else [])
    words += [f"not writable for {account.name}"] if account and _lacks_write(need, place, survey, account) else []
    remedies = [f"keep it out of {exposed}: move it, and tell the application where it is"] if exposed else []
    if change and (server := _another_serving(need, place, survey, target)):
        remedies += [f"{server} serves it: decide who may write there, for this one too: {change.command_line}"]
        change = None
    elif change:
        remedies += [change.command_line]
    barred = _barred_inside(need, place, account) if account and not change else []
    if barred and account:
        words.append(f"but not {', '.join(barred[:3])}{' and others' if len(barred) > 3 else ''} in it")
        paths = " ".join(shlex.quote(f"{place.real or place.path}/{name}") for name in barred)
        remedies.append(f"chown -R {account.name} {paths}")
    demands = (change,) if change and target.present else ()
    finding = replace(finding, found=", ".join(words), demands=demands)
    everyone = not remedies and place.kind == "directory" and place.mode & 2 and not place.mode & 0o1000
    remark = f"every user of the server may write to it (mode {place.mode:04o})" if everyone else None
    verdict: Verdict = "unmet" if remedies else "met"
    finding = replace(finding, verdict=verdict, remedy="; ".join(remedies) or None, remark=remark)
    path = place.real or place.path
    finding = judge_directory(finding, path, target)
    return in_sandbox(finding, path, need.access, survey, target, next(iter(sites_of(survey, target)), None))


def _as_said(finding: Finding, need: DirectoryNeed, place: Place, survey: Survey) -> Finding:
    """The finding about a directory of which PHP itself said whether it may write there."""
    exposed = _served(place, survey) if need.outside else None
    wanted = {"writable": "writable", "read-only": "read-only"}.get(need.access, place.said)
    words = [place.said] + ([f"within the document root {exposed}"] if exposed else [])
    remedies = [f"keep it out of {exposed}: move it, and tell the application where it is"] if exposed else []
    if place.said != wanted:
        verb = "write to" if wanted == "writable" else "read, and not write to,"
        remedies.append(f"let the user as whom PHP works {verb} {place.path}")
    verdict: Verdict = "unmet" if remedies else "met"
    return replace(finding, verdict=verdict, found=", ".join(words), remedy="; ".join(remedies) or None)


def _strayed(need: DirectoryNeed, place: Place, survey: Survey, target: Target) -> str:
    """How a link leads to a directory that is none of the application's; empty if none does.

    Whoever may write in an application's directory may put a link there that leads anywhere.
    """
    real = place.real or place.path
    if place.loose:
        return f"{place.loose} is a link that others than root may change, and leads to {real}"
    if need.path.startswith("/") or real == place.path:
        return ""
    places = {place.path: place for place in survey.places}
    base = places.get(place.path.removesuffix(f"/{need.path}") or "/")
    if base is None or not inside(real, base.real or base.path):
        return f"{place.path} leads out of the application, to {real}"
    return ""


def _unplaced(need: DirectoryNeed, survey: Survey, target: Target) -> str:
    if not need.path.startswith("/") and not any(site.root for site in sites_of(survey, target)):
        return "where the application stands is not known: no web site here leads to it; write the path in full"
    return f"the survey did not look there: {AGAIN}"


def _another_serving(need: DirectoryNeed, place: Place, survey: Survey, target: Target) -> str:
    """The site of somebody else that a directory, which is none of the application's own, is served by; else empty."""
    path = place.real or place.path
    own = [site.root for site in sites_of(survey, target) if site.root]
    if not need.path.startswith("/") or any(inside(path, root) for root in own):
        return ""
    others = (site for site in survey.sites if site.root and site.root not in own)
    return next((site.name for site in others if inside(path, site.root or "") or inside(site.root or "", path)), "")


def _served(place: Place, survey: Survey) -> str | None:
    """The document root in which it stands."""
    path = place.real or place.path
    roots = [site.root for site in survey.sites if site.root]
    return next((root for root in roots if inside(path, root)), None)


def _described(place: Place) -> str:
    if place.kind == "absent":
        return "not there"
    label = f", {place.label.split(':')[2]}" if place.label.count(":") >= 2 else ""
    lists = ", with an access list" if place.grants else ""
    return f"{place.owner or place.user}:{place.group} {place.mode:04o}{lists}{label}"


def _barred_inside(need: DirectoryNeed, place: Place, account: Account) -> list[str]:
    """What lies in a directory that has to be writable, belongs to somebody else, and is not writable."""
    if need.access != "writable":
        return []
    entries = (
        (
            other.name,
            Place(other.name, "directory" if other.directory else "file", "", other.user, other.group, other.mode),
        )
        for other in place.others
    )
    return [name for name, entry in entries if not allowed(entry, account) & 2]


def _lacks_write(need: DirectoryNeed, place: Place, survey: Survey, account: Account) -> bool:
    return need.access == "writable" and place.kind == "directory" and allowed(place, account) & 7 != 7


KIND = Directories()
