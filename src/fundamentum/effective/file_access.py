"""What a user may do with a directory.  Source: acl(5), the algorithm of access checks; path_resolution(7)."""

import posixpath
from collections.abc import Iterator, Mapping
from typing import Final

from msgspec.structs import replace

from fundamentum.model.findings import Target
from fundamentum.model.surrounding_facts import Account, Place
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform

READ, WRITE, SEARCH = 4, 2, 1
ROOT: Final = 0


def allowed(place: Place, account: Account) -> int:
    """The bits (read 4, write 2, search or run 1) that the user has."""
    if account.user == ROOT:
        return 7
    if place.user == account.user:
        return place.mode >> 6 & 7
    mask = next((grant.bits for grant in place.grants if grant.kind == "mask"), 7)
    own = next((grant.bits for grant in place.grants if grant.kind == "user" and grant.id == account.user), None)
    if own is not None:
        return own & mask
    # With an access list, the mode's bits for the group are the mask, and the group's own stand in the list.
    owning = next((grant.bits & mask for grant in place.grants if grant.kind == "owning-group"), place.mode >> 3 & 7)
    groups = [owning] if place.group in account.groups else []
    groups += [grant.bits & mask for grant in place.grants if grant.kind == "group" and grant.id in account.groups]
    if groups:
        bits = 0
        for group in groups:
            bits |= group
        return bits
    return place.mode & 7


def way_to(place: Place, places: Mapping[str, Place]) -> Iterator[Place]:
    """The directories above it that were looked at, outermost first."""
    parts = (place.real or place.path).strip("/").split("/")
    for length in range(len(parts)):
        above = places.get("/" + "/".join(parts[:length]))
        if above:
            yield above


def barred(place: Place, places: Mapping[str, Place], account: Account) -> list[Place]:
    """The directories on the way that the user may not pass through."""
    return [
        above for above in way_to(place, places) if above.kind == "directory" and not allowed(above, account) & SEARCH
    ]


def account_of(survey: Survey, target: Target) -> Account | None:
    """The user as whom the runtime works; None where that is not known."""
    name = user_of(survey, target)
    return account_named(survey, name, target.runtime.group) if name else None


def account_named(survey: Survey, name: str, group: str | None = None) -> Account | None:
    """The user of that name, if the survey knows him; as processes are that are given a group in place of his own.

    Source: ``initgroups`` adds the groups that list him, and his own is not among them unless it does.
    """
    account = next((account for account in survey.accounts if account.name == name), None)
    number = int(group) if group and group.isdecimal() else survey.groups.get(group or "")
    if account is None or number is None:
        return account
    return replace(account, group=group, groups=tuple(dict.fromkeys((number, *account.groups[1:]))))


def user_of(survey: Survey, target: Target) -> str | None:
    """The name of that user: as configured, or as the distribution's packages have it."""
    runtime = target.runtime
    if runtime.user:
        return runtime.user
    if runtime.sapi not in ("fpm", "apache2"):
        return None
    return platform(survey.system.family).php_user


def inside(path: str, folder: str) -> bool:
    """Whether a path is a folder or stands somewhere in it."""
    asked = posixpath.normpath(folder).rstrip("/")
    return path == asked or path.startswith(f"{asked}/")
