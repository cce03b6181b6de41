"""The narrowest change that gives a user what he needs of a directory, and nobody else anything."""

from msgspec.structs import replace

from fundamentum.changes.directory import PRIVATE, ArrangeDirectory
from fundamentum.effective.file_access import ROOT, allowed, barred
from fundamentum.kinds.directories.need import DirectoryNeed
from fundamentum.model.surrounding_facts import Account, Place
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform


def arranged(need: DirectoryNeed, place: Place, survey: Survey, account: Account) -> ArrangeDirectory | None:
    """The narrowest change that makes the directory what it has to be; None if it is that already."""
    places = {place.path: place for place in survey.places}
    path = place.real or place.path
    change = ArrangeDirectory(path, account.name)
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
    return None if change == ArrangeDirectory(path, account.name) else change


def _granted(change: ArrangeDirectory, place: Place, account: Account, bits: int, survey: Survey) -> ArrangeDirectory:
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


def _withheld(change: ArrangeDirectory, place: Place, account: Account) -> ArrangeDirectory:
    """Without the right to write, for this user."""
    if account.user == ROOT or not allowed(place, account) & 2:
        return change
    if place.user == account.user:
        change = replace(change, owner="root", group=account.group)
    mode = place.mode & ~0o022
    grants = ((change.path, "r-x"),) if any(g.kind == "user" and g.id == account.user for g in place.grants) else ()
    return replace(change, mode=mode if mode != place.mode else None, grants=grants)


def replace_place(place: Place, change: ArrangeDirectory, account: Account) -> Place:
    """The place as the change leaves it, as far as owner, group and mode go."""
    owners = {"root": ROOT, account.name: account.user}
    group = account.groups[0] if change.group == account.group and change.group else place.group
    return replace(
        place,
        user=owners.get(change.owner or "", place.user),
        group=group,
        mode=place.mode if change.mode is None else change.mode,
    )


def passable(change: ArrangeDirectory, shut: list[Place], survey: Survey, account: Account) -> ArrangeDirectory:
    """With the right for the user to pass through these directories, and no other."""
    for closed in shut:
        path = closed.real or closed.path
        if closed.user == account.user:
            change = replace(change, opened=(*change.opened, (path, closed.mode | 0o100)))
        elif closed.grants or _can_grant(survey):
            change = replace(change, grants=(*change.grants, (path, "x")))
        elif closed.group in account.groups:
            change = replace(change, opened=(*change.opened, (path, closed.mode | 0o010)))
        else:  # passing through only: nothing in it can be listed, and nothing written
            change = replace(change, opened=(*change.opened, (path, closed.mode | 0o001)))
    return change


def _can_grant(survey: Survey) -> bool:
    return any(command.name == "setfacl" and command.path for command in survey.commands)


def _letters(bits: int) -> str:
    return "".join(letter if bits & bit else "-" for letter, bit in zip("rwx", (4, 2, 1), strict=True))


def opened(place: Place, survey: Survey, account: Account) -> ArrangeDirectory | None:
    """The narrowest change that lets the user write to a directory or file, which is made if it is absent."""
    if place.kind != "file":
        return arranged(DirectoryNeed(place.path, "required", "writable"), place, survey, account)
    if place.user == account.user:
        return ArrangeDirectory(place.real or place.path, account.name, mode=place.mode | 0o600)
    return ArrangeDirectory(place.real or place.path, account.name, owner=account.name, mode=place.mode | 0o600)


def closed(place: Place, survey: Survey, account: Account) -> ArrangeDirectory | None:
    """The change after which the user may read a directory or file, and not write to it."""
    if place.kind != "file":
        return arranged(DirectoryNeed(place.path, "required", "read-only"), place, survey, account)
    change = replace(_withheld(ArrangeDirectory(place.real or place.path, account.name), place, account), grants=())
    mode = place.mode & ~0o022
    readable = replace_place(place, replace(change, mode=mode), account)
    needed = mode if allowed(readable, account) & 4 else mode | (0o040 if change.group else 0o004)
    return replace(change, mode=needed)
