"""What a server would be once a directory, a web server's limit or a task has been changed: pure functions."""

import posixpath
from collections.abc import Callable, Iterable

from msgspec.structs import replace

from fundamentum.catalog.cron import interval
from fundamentum.check.access import account_named
from fundamentum.model.actions import Allow, Arrange, Manage, Schedule, Widen
from fundamentum.model.findings import Arrangement
from fundamentum.model.origin import Origin
from fundamentum.model.php import Setting
from fundamentum.model.surroundings import Grant, Limit, Place, Scheduled, Spot
from fundamentum.model.survey import Site, Survey

_BITS = {"r": 4, "w": 2, "x": 1, "-": 0}


def carried_out(action: Manage | Widen | Allow | Arrange | Schedule, survey: Survey) -> Survey:
    """The survey after one such action."""
    match action:
        case Manage(name, _, after, file, label):
            owner = {"listen_owner": after} if name == "listen.owner" else {}
            changed = tuple(
                replace(one, manager={**one.manager, name: Setting(after, Origin(file, 1))}, **owner)
                if one.label == label
                else one
                for one in survey.runtimes
            )
            return replace(survey, runtimes=changed)
        case Widen():
            return replace(survey, sites=each_site(survey.sites, lambda site: _widened(site, action)))
        case Allow():
            return replace(survey, sites=each_site(survey.sites, lambda site: _allowed(site, action)))
        case Arrange(arrangement):
            return _arranged(arrangement, survey)
        case Schedule(command, line, file):
            fields = line.split()
            task = Scheduled(command, Origin(file, 1), fields[5], interval(fields[:5]))
            return replace(survey, tasks=(*survey.tasks, task))


def each_site(sites: Iterable[Site], change: Callable[[Site], Site]) -> tuple[Site, ...]:
    """All sites, and those in front of them, changed."""
    return tuple(change(replace(site, fronts=tuple(map(change, site.fronts)))) for site in sites)


def _widened(site: Site, action: Widen) -> Site:
    if action.spot is None:
        same = site.server == action.server and action.site == site.name
        limits = (replace(one, value=action.after) if same and one.name == action.name else one for one in site.limits)
        return replace(site, limits=tuple(limits))
    here = (action.spot.file, action.spot.line)
    found: list[Limit] = []
    for one in site.limits:
        own = one.own
        if one.name == action.name and not action.adds and own and (own.file, own.line) == here:
            one = replace(one, value=action.after)
        elif one.name == action.name and action.adds and own is None and site.spot == action.spot:
            place = Spot(action.spot.file, action.spot.line + 1)
            one = replace(one, value=action.after, origin=Origin(place.file, place.line), own=place)
        found.append(one)
    return replace(site, limits=tuple(found))


def _allowed(site: Site, action: Allow) -> Site:
    """What a web server allows all sites, each of them is allowed that has no limit of its own."""
    limits = tuple(
        replace(one, value=action.after, origin=Origin(action.file, 2))
        if site.server == action.server and one.name == action.name and one.own is None
        else one
        for one in site.limits
    )
    return replace(site, limits=limits)


def _arranged(change: Arrangement, survey: Survey) -> Survey:
    places = {place.path: place for place in survey.places}
    account = account_named(survey, change.user)
    users = {"root": 0} | ({account.name: account.user} if account else {})
    for path in [one for one, place in places.items() if (place.real or one) == change.path]:
        place = places[path]
        places[path] = replace(
            place,
            kind="directory" if change.make else place.kind,
            user=users.get(change.owner or "", place.user),
            owner=change.owner or place.owner,
            group=account.groups[0] if change.group and account else place.group,
            mode=place.mode if change.mode is None else change.mode,
            label=f"system_u:object_r:{change.label}:s0" if change.label else place.label,
        )
    if change.make:
        above = posixpath.dirname(change.path)
        while above != "/" and above in places and places[above].kind == "absent":
            places[above] = replace(places[above], kind="directory", mode=0o755)
            above = posixpath.dirname(above)
    for path, mode in change.opened:
        places |= {one: replace(p, mode=mode) for one, p in places.items() if (p.real or one) == path}
    for path, letters in change.grants:
        bits = sum(_BITS[letter] for letter in letters)
        grant = Grant("user", account.user if account else -1, bits)
        places |= {one: _granted(p, grant) for one, p in places.items() if (p.real or one) == path}
    return replace(survey, places=tuple(places[path] for path in sorted(places)))


def _granted(place: Place, grant: Grant) -> Place:
    """With one more entry in the access list.  Source: setfacl(1): the mask is widened to hold every entry."""
    others = [one for one in place.grants if one.kind != "mask" and (one.kind, one.id) != (grant.kind, grant.id)]
    if not any(one.kind == "owning-group" for one in others):
        others.append(Grant("owning-group", 0, place.mode >> 3 & 7))
    mask = 0
    for one in (*others, grant):
        mask |= one.bits
    mode = place.mode & ~0o070 | mask << 3
    return replace(place, grants=(*others, grant, Grant("mask", 0, mask)), mode=mode)


def with_commands(survey: Survey, package: str) -> Survey:
    """The commands that a package brings are there once it is installed."""
    found = tuple(
        replace(one, path=f"/usr/bin/{one.name}", package=package)
        if package in one.offered and (one.path is None or one.package == package)
        else one
        for one in survey.commands
    )
    return replace(survey, commands=found) if found != survey.commands else survey
