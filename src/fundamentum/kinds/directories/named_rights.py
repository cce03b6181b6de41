"""Directories where rights are those of names in access lists: whether the one as whom PHP works may write there.

Source: Microsoft's "How AccessCheck works" (what is denied to a name or to one of its groups counts before what is
allowed), and its "Application pool identities".
"""

from typing import Final

from msgspec.structs import replace

from fundamentum.catalog.quantity import switch
from fundamentum.changes.named_access import GiveAccess
from fundamentum.effective.file_access import inside
from fundamentum.effective.judged_sites import sites_of
from fundamentum.kinds.directories.need import DirectoryNeed
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.findings import Finding, Target
from fundamentum.model.surrounding_facts import Access, Place
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform

_EVERYONE: Final = frozenset({"s-1-1-0", "everyone", "s-1-5-11", r"nt authority\authenticated users"})
_USERS: Final = frozenset({"s-1-5-32-545", r"builtin\users"})
_POOLS: Final = frozenset({"s-1-5-32-568", r"builtin\iis_iusrs"})
_ADMINISTRATORS: Final = frozenset({"s-1-5-32-544", r"builtin\administrators"})
_SYSTEM: Final = r"nt authority\system"
_POOL_NAME: Final = lazy_regex(r"\bapppool\\")
WRITES: Final = 2


def identity(survey: Survey, target: Target) -> str:
    """As whom PHP works for the judged sites; empty where they differ, or that is not known."""
    setting = target.runtime.settings.get("fastcgi.impersonate")
    visits = bool(setting and setting.value and switch(setting.value))
    names = {(site.visitor if visits else "") or site.identity for site in sites_of(survey, target)}
    return names.pop() if len(names) == 1 else ""


def judged_by_name(need: DirectoryNeed, place: Place, survey: Survey, target: Target, base: Finding) -> Finding:
    """The finding for one directory."""
    of, who = platform(survey.system.family), identity(survey, target)
    exposed = _served(place, survey) if need.outside else None
    if place.kind == "file":
        remedy = f"move the file {place.path} away: a directory has to be there"
        return replace(base, verdict="unmet", found="a file", remedy=remedy)
    if exposed:
        words = f"{'not there, and ' if place.kind == 'absent' else ''}within the document root {exposed}"
        remedy = f"keep it out of {exposed}: move it, and tell the application where it is"
        return replace(base, verdict="unmet", found=words, remedy=remedy)
    if need.access == "there" and place.kind == "directory":
        return replace(base, verdict="met", found="there")
    if not who and need.access != "there":
        why = f"as whom {target.runtime.label} works is not known, so what it may do there cannot be told"
        return replace(base, found="there" if place.kind == "directory" else "not there", remedy=why)
    letters = {"writable": "rwx", "read-only": "r-x"}.get(need.access, "")
    change = GiveAccess(place.path, who, letters, place.kind == "absent")
    if place.kind == "absent":
        demands = (change,) if target.present else ()
        return replace(base, verdict="unmet", found="not there", remedy=change.line(of), demands=demands)
    if place.access is None:
        asking = of.command_line(of.asking_rights(place.path))
        tells = f"tells whether {who} may {'write' if letters == 'rwx' else 'read, and not write,'} there"
        grant = f"; if not: {change.line(of)}" if letters == "rwx" else ""
        return replace(base, found="there; rights are not known", remedy=f"{asking} on the server {tells}{grant}")
    bits = allowed(place.access, who)
    actual = f"{who} may {'write' if bits & WRITES else 'read' if bits & 4 else 'not read'}"
    if need.access == "read-only" and bits & WRITES:
        remedy = f"take the right to write away from {who}, or from the group that gives it"
        return replace(base, verdict="unmet", found=actual, remedy=remedy)
    wanted = 6 if letters == "rwx" else 4
    if bits & wanted == wanted:
        return replace(base, verdict="met", found=actual, remark=_open(place.access))
    demands = (change,) if target.present else ()
    return replace(base, verdict="unmet", found=actual, remedy=change.line(of), demands=demands)


def allowed(access: tuple[Access, ...], who: str) -> int:
    """What a name may do, as bits: 4 to read, 2 to write, 1 to run or pass through."""
    groups = _groups(who.lower())
    mine = [entry for entry in access if groups & {entry.name.lower(), entry.sid.lower()}]
    denied = [entry for entry in mine if entry.denied]
    given = [entry for entry in mine if not entry.denied]
    bits = 0
    for rights in given:
        bits |= rights.bits
    for rights in denied:
        bits &= ~rights.bits
    return bits


def _groups(who: str) -> frozenset[str]:
    """The names and identifiers whose rights a name has."""
    groups = _EVERYONE | {who, f"builtin\\{who}", f"nt authority\\{who}"}
    if _POOL_NAME.search(who):
        return groups | _USERS | _POOLS
    if who == _SYSTEM:
        return groups | _ADMINISTRATORS | {"s-1-5-18"}
    if who in ("iusr", r"nt authority\iusr"):
        return groups | {"s-1-5-17"} | _USERS
    return groups | _USERS | _POOLS


def _open(access: tuple[Access, ...]) -> str | None:
    given = (rights for rights in access if not rights.denied and rights.bits & WRITES)
    wide = any({rights.name.lower(), rights.sid.lower()} & _EVERYONE for rights in given)
    return "everyone on the server may write to it" if wide else None


def _served(place: Place, survey: Survey) -> str | None:
    roots = [site.root for site in survey.sites if site.root]
    return next((root for root in roots if inside(place.path, root)), None)
