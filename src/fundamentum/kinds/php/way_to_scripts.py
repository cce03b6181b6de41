"""Whether PHP may read a site's scripts, and finds what is to be run before them."""

import posixpath
from collections.abc import Iterator, Mapping
from typing import Final

from fundamentum.changes.directory import ArrangeDirectory
from fundamentum.changes.pool_option import SetPoolOption
from fundamentum.effective.confinement import fenced, kept_from
from fundamentum.effective.file_access import READ, SEARCH, account_named, account_of, allowed, barred
from fundamentum.kinds.directories.rights import passable
from fundamentum.kinds.php.broken import Broken
from fundamentum.kinds.settings.deciding_place import pool_addition
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.findings import Target
from fundamentum.model.origin import Origin
from fundamentum.model.php import ENDINGS, PREPENDED
from fundamentum.model.surrounding_facts import Account, Place
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms import platform

SCRIPT: Final = "index.php"
_ENDING: Final = lazy_regex(r"\.[A-Za-z0-9]+")


def document_root(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether both the web server and PHP reach what is in the document root."""
    places = {place.path: place for place in survey.places}
    root = places.get(site.root or "")
    if root is None or root.kind == "unreadable":
        return
    for who in filter(None, (of_web_server(survey, site), account_of(survey, target))):
        # A document root that is not there is what the application will be put into.
        closed_here = [root] if root.kind == "directory" and not allowed(root, who) & SEARCH else []
        # The root itself is a directory of somebody's, where it is not a running system's.
        for closed in (place for place in (*barred(root, places, who), *closed_here) if place.path != "/"):
            words = f"{who.name} may not pass through {closed.path} (mode {closed.mode:04o}), so {site.name} is refused"
            change = passable(ArrangeDirectory(closed.real or closed.path, who.name), [closed], survey, who)
            yield Broken(words, change.command_line, Origin(closed.path), () if closed.loose else (change,))
    yield from _script(places, account_of(survey, target), site)


def _script(places: dict[str, Place], account: Account | None, site: Site) -> Iterator[Broken]:
    script = places.get(f"{(site.root or '').rstrip('/')}/index.php")
    if script and script.kind == "file" and account and not allowed(script, account) & READ:
        words = f"{account.name}, as whom PHP works, may not read {script.path} (mode {script.mode:04o})"
        own, shared = script.user == account.user, script.group in account.groups
        mode = script.mode | (READ << 6 if own else READ << 3 if shared else READ)
        change = ArrangeDirectory(script.path, account.name, opened=((script.real or script.path, mode),))
        yield Broken(words, change.command_line, Origin(script.path), (change,))


def of_web_server(survey: Survey, site: Site) -> Account | None:
    """The user as whom the web server works."""
    name = site.user or platform(survey.system.family).php_user
    return account_named(survey, name, site.group if site.user else None) if name else None


def shut_in(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """A pool that is shut into a directory looks for scripts there, under the path that it is told."""
    if chroot := target.runtime.chroot:
        what = site.root or "the script"
        actual = f"{target.runtime.label} is shut into {chroot}: whether it finds {what} there is not known"
        yield Broken(actual, f"look whether {chroot}{site.root or ''} is there", unknown=True)


def fenced_out(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether PHP may open the site's own scripts.  Asked of real servers: it answers 404, or with nothing."""
    fence = kept_from(site, {place.path: place for place in survey.places}, target)
    if fence and not target.runtime.chroot and not platform(survey.system.family).rights_by_name:
        relative = any(part[:1] not in ("/", "") for part in (fence.value or "").split(":"))
        keeps = "may keep" if relative else "keeps"
        actual = f"open_basedir ({fence.value}) {keeps} PHP from the scripts in {site.root}, so {site.name} is refused"
        yield Broken(actual, f"add {site.root} to open_basedir at {fence.origin}", fence.origin, unknown=relative)


def prepended(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether PHP finds the file that it is told to run before each script; it answers with an error where it does not.

    Source: php.net, ``auto_prepend_file``: it is included as by ``require``; asked of real pools.
    """
    setting = target.runtime.settings.get(PREPENDED)
    if setting is None or not setting.value or platform(survey.system.family).rights_by_name or target.runtime.chroot:
        return
    places = {place.path: place for place in survey.places}
    path = setting.value if setting.value.startswith("/") else f"{(site.root or '').rstrip('/')}/{setting.value}"
    place, named = places.get(path), f"{PREPENDED} ({setting.value})"
    if place is None or (place.kind != "file" and path != setting.value):
        actual = f"whether PHP finds {named} is not known: if not, every request of {site.name} fails"
        yield Broken(actual, f"look for it, or ask {site.name} for a page", setting.origin, unknown=True)
    elif why := _kept_away(place, places, account_of(survey, target), target):
        actual = f"{named} {why}, so every request of {site.name} fails"
        yield Broken(actual, f"change {PREPENDED} at {setting.origin}, or let PHP read that file", setting.origin)


def of_an_ending_that_is_run(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether the pool runs files that are called like the site's scripts; it answers with 403 where it does not.

    Source: php.net, ``security.limit_extensions``: without it ``.php`` and ``.phar``, with an empty one all.
    """
    runtime = target.runtime
    setting = runtime.manager.get(ENDINGS)
    endings = (setting.value or "").split() if setting else []
    if setting is None or not endings or any(SCRIPT.endswith(ending.lower()) for ending in endings):
        return
    actual = f"{runtime.label} runs files that end in {' or '.join(endings)} alone, so {site.name} is refused"
    file = pool_addition(runtime, f"endings-{runtime.pool}", setting.origin.file)
    after = " ".join((*endings, ".php"))
    remedy = f"add .php to {ENDINGS} at {setting.origin} and restart {runtime.service or 'the process manager'}"
    known = runtime.pool and file and all(map(_ENDING.fullmatch, endings))
    change = SetPoolOption(ENDINGS, setting.value, after, file or "", runtime.label, runtime.pool or "", 0)
    yield Broken(actual, remedy, setting.origin, (change,) if known else ())


def not_in_another_root(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether PHP looks for scripts in a directory of its own.  Source: php.net, ``doc_root``; asked of real pools."""
    setting = target.runtime.settings.get("doc_root")
    if target.runtime.sapi not in ("fpm", "cgi") or setting is None or not (setting.value or "").startswith("/"):
        return
    if posixpath.normpath(setting.value or "") != posixpath.normpath(site.root or ""):
        actual = f"PHP looks for scripts in {setting.value} (doc_root) and not in {site.root}"
        remedy = f"look whether they are there, or take doc_root out at {setting.origin}"
        yield Broken(actual, remedy, setting.origin, unknown=True)


def _kept_away(place: Place, places: Mapping[str, Place], account: Account | None, target: Target) -> str:
    """Why PHP cannot include a file; empty where it can."""
    if place.kind in ("absent", "directory"):
        return "is not there" if place.kind == "absent" else "is a directory"
    if fence := fenced(place.real or place.path, target):
        return f"lies outside of open_basedir ({fence.origin})" if fence.value else ""
    # The root itself is a directory of somebody's, where it is not a running system's.
    closed = [directory for directory in barred(place, places, account) if directory.path != "/"] if account else []
    if account and (closed or not allowed(place, account) & READ):
        return f"may not be read by {account.name}"
    return ""
