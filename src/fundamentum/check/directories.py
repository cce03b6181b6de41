"""Directories: there, writable or not, out of visitors' reach; and the narrowest change that makes them so."""

import shlex
from typing import Final

from msgspec.structs import replace

from fundamentum.check.access import ROOT, account_of, allowed, barred, inside, user_of
from fundamentum.check.chain import sites_of
from fundamentum.check.confinement import judge_directory
from fundamentum.model.application_paths import candidates
from fundamentum.model.findings import AGAIN, Arrangement, Finding, Target, Verdict
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_needs import DirectoryNeed
from fundamentum.model.surroundings import Account, Place
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform

PRIVATE: Final = 0o750


def _origin(need: DirectoryNeed, place: Place) -> Origin | None:
    """Where the directory really is, if the need does not say so itself."""
    path = place.real or (place.path if place.path != need.path else "")
    return Origin(path) if path else None


def judge(need: DirectoryNeed, survey: Survey, target: Target) -> Finding:
    """The finding for one directory."""
    base = Finding(need=need.key, level=need.level, verdict="unknown", wanted=need.text)
    if not platform(survey.system.family).rights:
        return replace(base, found="not known", remedy="permissions of this system are not judged here: look yourself")
    place = placed(need, survey, target)
    if place is None:
        return replace(base, found="not known", remedy=_unplaced(need, survey, target))
    found = replace(base, origin=_origin(need, place))
    if place.kind == "unreadable":
        return replace(found, found="cannot be seen", remedy="survey again as a user who may look there")
    if place.said:
        return _as_said(found, need, place, survey)
    account = account_of(survey, target)
    if account is None and need.access != "there":
        who = user_of(survey, target)
        why = f"there is no user {who} here yet" if who else f"as whom {target.runtime.label} works is not known"
        return replace(found, found=_described(place), remedy=f"{why}, so what it may do there cannot be told")
    if place.kind == "file":
        remedy = f"move the file {place.path} away: a directory has to be there"
        return replace(found, verdict="unmet", found="a file", remedy=remedy)
    exposed = _served(place, survey) if need.outside else None
    change = arranged(need, place, survey, account) if account else None
    if account is None and place.kind == "absent":
        change = Arrangement(place.real or place.path, "root", make=True, owner="root", mode=PRIVATE)
    stray = _strayed(need, place, survey, target) if change else ""
    if stray and change:
        remedy = f"{stray}, which this program never changes: put a directory in its place, or change that one by hand"
        return replace(found, verdict="unmet", found=_described(place), remedy=remedy)
    words = [_described(place)] + ([f"within the document root {exposed}"] if exposed else [])
    words += [f"not writable for {account.name}"] if account and _lacks_write(need, place, survey, account) else []
    remedies = [f"keep it out of {exposed}: move it, and tell the application where it is"] if exposed else []
    if change:
        remedies += [" && ".join(shlex.join(command) for command in commands(change))]
    found = replace(found, found=", ".join(words), arrangement=change)
    everyone = not remedies and place.kind == "directory" and place.mode & 2 and not place.mode & 0o1000
    remark = f"every user of the server may write to it (mode {place.mode:04o})" if everyone else None
    verdict: Verdict = "unmet" if remedies else "met"
    found = replace(found, verdict=verdict, remedy="; ".join(remedies) or None, remark=remark)
    return judge_directory(found, place.real or place.path, target)


def _as_said(found: Finding, need: DirectoryNeed, place: Place, survey: Survey) -> Finding:
    """The finding about a directory of which PHP itself said whether it may write there."""
    exposed = _served(place, survey) if need.outside else None
    wanted = {"writable": "writable", "read-only": "read-only"}.get(need.access, place.said)
    words = [place.said] + ([f"within the document root {exposed}"] if exposed else [])
    remedies = [f"keep it out of {exposed}: move it, and tell the application where it is"] if exposed else []
    if place.said != wanted:
        verb = "write to" if wanted == "writable" else "read, and not write to,"
        remedies.append(f"let the user as whom PHP works {verb} {place.path}")
    verdict: Verdict = "unmet" if remedies else "met"
    return replace(found, verdict=verdict, found=", ".join(words), remedy="; ".join(remedies) or None)


def placed(need: DirectoryNeed, survey: Survey, target: Target) -> Place | None:
    """The place that is meant: the first candidate that exists, else the likeliest one."""
    places = {place.path: place for place in survey.places}
    paths = candidates(need.path, sites_of(survey, target))
    known = [places[path] for path in paths if path in places]
    return next((place for place in known if place.kind != "absent"), known[0] if known else None)


def _strayed(need: DirectoryNeed, place: Place, survey: Survey, target: Target) -> str:
    """How a link leads to a directory that is none of the application's; empty if none does.

    Whoever may write in an application's directory may put a link there that leads anywhere.
    """
    real = place.real or place.path
    if place.loose:
        return f"{place.loose} is a link that others than root may change, and leads to {real}"
    if need.path.startswith("/") or real == place.path:
        return ""
    places = {one.path: one for one in survey.places}
    base = places.get(place.path.removesuffix(f"/{need.path}") or "/")
    if base is None or not inside(real, base.real or base.path):
        return f"{place.path} leads out of the application, to {real}"
    return ""


def _unplaced(need: DirectoryNeed, survey: Survey, target: Target) -> str:
    if not need.path.startswith("/") and not any(site.root for site in sites_of(survey, target)):
        return "where the application stands is not known: no web site here leads to it; write the path in full"
    return f"the survey did not look there: {AGAIN}"


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


def _lacks_write(need: DirectoryNeed, place: Place, survey: Survey, account: Account) -> bool:
    return need.access == "writable" and place.kind == "directory" and allowed(place, account) & 7 != 7


def arranged(need: DirectoryNeed, place: Place, survey: Survey, account: Account) -> Arrangement | None:
    """The narrowest change that makes the directory what it has to be; None if it is that already."""
    places = {one.path: one for one in survey.places}
    path = place.real or place.path
    change = Arrangement(path, account.name)
    if place.kind == "absent":
        writes = need.access == "writable"
        owner = account.name if writes else "root"
        change = replace(change, make=True, owner=owner, group=account.group, mode=PRIVATE)
    elif need.access == "writable":
        change = _granted(change, place, account, 7, survey)
    elif need.access == "read-only":
        change = _granted(_withheld(change, place, account), place, account, 5, survey)
    change = passable(change, barred(place, places, account), survey, account)
    if need.access == "writable" and survey.machine.enforcing:
        kind = place.label.split(":")[2] if place.label.count(":") >= 2 else ""
        of = platform(survey.system.family)
        if kind not in of.writable_labels:
            change = replace(change, label=of.writable_label)
    return None if change == Arrangement(path, account.name) else change


def _granted(change: Arrangement, place: Place, account: Account, bits: int, survey: Survey) -> Arrangement:
    """With these bits for the user: by owner or group where that touches nobody else, else by the access list."""
    mode = place.mode if change.mode is None else change.mode
    seen = replace_place(place, change, account)
    if allowed(seen, account) & bits == bits:
        return change
    if seen.user == account.user:
        return replace(change, mode=mode | bits << 6)
    if place.grants:
        return replace(change, grants=((change.path, _letters(bits)),))
    if seen.group == account.groups[0]:
        return replace(change, mode=mode | bits << 3)
    if place.user == ROOT and bits & 2:
        return replace(change, owner=account.name, mode=mode | bits << 6 if mode >> 6 & bits != bits else change.mode)
    if place.user == ROOT or not _can_grant(survey):
        return replace(change, group=account.group, mode=mode | bits << 3 if mode >> 3 & bits != bits else change.mode)
    return replace(change, grants=((change.path, _letters(bits)),))


def _withheld(change: Arrangement, place: Place, account: Account) -> Arrangement:
    """Without the right to write, for this user."""
    if account.user == ROOT or not allowed(place, account) & 2:
        return change
    if place.user == account.user:
        change = replace(change, owner="root", group=account.group)
    mode = place.mode & ~0o022
    grants = ((change.path, "r-x"),) if any(g.kind == "user" and g.id == account.user for g in place.grants) else ()
    return replace(change, mode=mode if mode != place.mode else None, grants=grants)


def replace_place(place: Place, change: Arrangement, account: Account) -> Place:
    """The place as the change leaves it, as far as owner, group and mode go."""
    owners = {"root": ROOT, account.name: account.user}
    group = account.groups[0] if change.group == account.group and change.group else place.group
    return replace(
        place,
        user=owners.get(change.owner or "", place.user),
        group=group,
        mode=place.mode if change.mode is None else change.mode,
    )


def passable(change: Arrangement, shut: list[Place], survey: Survey, account: Account) -> Arrangement:
    """With the right for the user to pass through these directories, and no other."""
    for one in shut:
        path = one.real or one.path
        if one.user == account.user:
            change = replace(change, opened=(*change.opened, (path, one.mode | 0o100)))
        elif one.grants or _can_grant(survey):
            change = replace(change, grants=(*change.grants, (path, "x")))
        elif one.group in account.groups:
            change = replace(change, opened=(*change.opened, (path, one.mode | 0o010)))
        else:  # passing through only: nothing in it can be listed, and nothing written
            change = replace(change, opened=(*change.opened, (path, one.mode | 0o001)))
    return change


def _can_grant(survey: Survey) -> bool:
    return any(one.name == "setfacl" and one.path for one in survey.commands)


def _letters(bits: int) -> str:
    return "".join(letter if bits & bit else "-" for letter, bit in zip("rwx", (4, 2, 1), strict=True))


def commands(change: Arrangement) -> list[list[str]]:
    """The change as commands, each harmless where it has been run before."""
    found: list[list[str]] = []
    owner = f"{change.owner or ''}:{change.group}" if change.group else change.owner
    if change.make:
        words = ["install", "-d", "-m", f"{change.mode or PRIVATE:04o}", "-o", change.owner or "root"]
        found.append([*words, *(["-g", change.group] if change.group else []), change.path])
    else:
        found += [["chown", owner, change.path]] if owner else []
        found += [["chmod", f"{change.mode:04o}", change.path]] if change.mode is not None else []
    found += [["chmod", f"{mode:04o}", path] for path, mode in change.opened]
    found += [["setfacl", "-m", f"u:{change.user}:{letters}", path] for path, letters in change.grants]
    if change.label:
        found.append(["semanage", "fcontext", "-a", "-t", change.label, f"{change.path}(/.*)?"])
        found.append(["restorecon", "-R", change.path])
    return found
