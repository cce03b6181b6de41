"""The install line of a guide, often of an older release, as it would be written for this server today."""

import re
from collections.abc import Callable, Collection, Iterable, Sequence
from typing import Final, Literal

import msgspec

from fundamentum.catalog import branch_key, canonical, catalogued, extension_gone, inside, instead_of, known_branches
from fundamentum.catalog.words import said
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.php import SAPIS, Sapi
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers
from fundamentum.webservers import names, packages, webserver

State = Literal["installed", "installable", "inside", "gone", "another-branch", "not-offered", "second-web-server"]
_PHP: Final = lazy_regex(
    r"(?P<module>lib(?P<server>[a-z]+2?)-mod-)?php(?P<branch>\d+(?:\.\d+)?)?[uw]?(?:-(?P<rest>[\w.+-]+))?"
)
_TOOL_WORDS: Final = frozenset(
    "sudo install in add update upgrade pecl reinstall -y -q --yes --no-install-recommends --assume-yes".split()
)
_SUFFIXES: Final = {
    "mysql": ("mysqli", "pdo_mysql"),
    "mysqlnd": ("mysqli", "pdo_mysql"),
    "pgsql": ("pgsql", "pdo_pgsql"),
    "sqlite": ("sqlite3", "pdo_sqlite"),
    "sqlite3": ("sqlite3", "pdo_sqlite"),
    "xml": ("dom", "simplexml", "xml", "xmlreader", "xmlwriter"),
    "pdo": ("pdo",),
    "apc": ("apcu",),
    "zendopcache": ("opcache",),
}
"""What packages brought whose names are not those of extensions."""


class Part(msgspec.Struct, frozen=True):
    """One package of the line."""

    word: str
    state: State
    today: tuple[str, ...]
    """The packages that bring the same here; those of the new line."""
    why: str


class InstallLine(msgspec.Struct, frozen=True):
    """The line as it would be here."""

    branch: str
    parts: tuple[Part, ...]
    packages: tuple[str, ...]
    """What it installs, each once; empty if nothing is left to install."""


def words_of(line: Sequence[str], tools: Collection[str]) -> list[str]:
    """The packages in the words of a command line, versions and architectures left out; ``tools`` install them."""
    text = " ".join(line).replace("\\", " ")
    lines: list[str] = []
    for word in re.split(r"[\s,;&|]+", text)[:500]:
        plain = re.sub(r"(?:[=/:].*|[+-])$", "", word)
        if (
            word.startswith("-")
            or plain in _TOOL_WORDS
            or "$" in word
            or not re.fullmatch(r"[A-Za-z0-9][\w.+-]*", plain)
        ):
            continue
        lines.append(plain)
    return list(dict.fromkeys(word for word in lines if word not in tools))


def translated(
    wanted: Sequence[str], survey: Survey, offers: Offers, along: Callable[[str], Iterable[str]]
) -> InstallLine:
    """Each package as this server has it today.  ``along`` tells which others one would bring."""
    branch = _branch(survey, offers)
    parts = [_of_guide(_part(word, branch, survey, offers, along), branch) for word in wanted]
    installed = {package.name for package in survey.installed or ()}
    today = [name for part in parts for name in part.today if name not in installed]
    return InstallLine(branch, tuple(parts), tuple(dict.fromkeys(today)))


def _of_guide(part: Part, branch: str) -> Part:
    """With a word on the branch that a guide was written for, where that is another one."""
    match = _PHP.fullmatch(part.word)
    theirs = match["branch"] if match else None
    if not theirs or "." not in theirs or theirs == branch:
        return part
    return msgspec.structs.replace(part, why=f"{part.why}; the guide is for PHP {theirs}, here is {branch}")


def _branch(survey: Survey, offers: Offers) -> str:
    """The branch that serves the web here, else one that is here, else the newest on offer."""
    serving = [runtime.branch for runtime in survey.runtimes if runtime.serves]
    there = [runtime.branch for runtime in survey.runtimes]
    offered = [*offers.branches("fpm"), *offers.branches("cli")]
    return [*serving, *sorted(there, key=branch_key, reverse=True), *offered, known_branches()[-1]][0]


def _part(word: str, branch: str, survey: Survey, offers: Offers, along: Callable[[str], Iterable[str]]) -> Part:
    match = _PHP.fullmatch(word)
    if match is None:
        return _other(word, survey, offers)
    rest = (match["rest"] or "").removeprefix("pecl-").removesuffix("-dbg")
    if match["module"] or not rest or rest in SAPIS or rest in ("common", "dev"):
        return _way_of_running(word, "apache2" if match["module"] else rest, branch, survey, offers, along)
    if word == f"php{branch}-{rest}" and offers.package(word):
        return _to_have(word, (word,), survey, offers)
    extensions = _SUFFIXES.get(rest) or (canonical(said("extensions").get(rest.lower(), rest)),)
    return _extensions(word, extensions, branch, survey, offers)


def _extensions(word: str, extensions: Sequence[str], branch: str, survey: Survey, offers: Offers) -> Part:
    """A package by the extensions it brought."""
    of_php = [name for name in extensions if inside(name, branch, "fpm")]
    if len(of_php) == len(extensions):
        return Part(word, "inside", (), f"superfluous: {' and '.join(extensions)} is part of PHP {branch} itself")
    suppliers = {name: offers.supplier(name, branch) for name in extensions if name not in of_php}
    today = tuple(dict.fromkeys(offer.name for offer in suppliers.values() if offer))
    if today:
        brings = ", ".join(name for name, offer in suppliers.items() if offer)
        part = _to_have(word, today, survey, offers)
        return msgspec.structs.replace(part, why=f"{part.why}; brings {brings}")
    if gone := next((gone for name in extensions if (gone := extension_gone(name, branch))), None):
        instead = next((renamed for name in extensions if (renamed := instead_of(name))), None)
        hint = f"; {instead} took its place" if instead else ""
        return Part(word, "gone", (), f"{extensions[0]} is not part of PHP since {gone}{hint}")
    others = sorted(
        {other for name in extensions for other in offers.branches_with(name)}, key=branch_key, reverse=True
    )
    if others:
        return Part(word, "another-branch", (), f"offered for PHP {', '.join(others)}, and not for {branch}")
    known = any(name in catalogued(known_branch) for name in extensions for known_branch in known_branches())
    why = "no repository here carries it" if known else "no extension of that name is known, and no package"
    return Part(word, "not-offered", (), f"{why} for PHP {branch}" if known else why)


def _way_of_running(
    word: str, sapi: str, branch: str, survey: Survey, offers: Offers, along: Callable[[str], Iterable[str]]
) -> Part:
    """A package that makes PHP run in some way; the one without a name leaves open which, and brings what it likes."""
    if sapi in ("common", "dev"):
        name = f"php{branch}-{sapi}"
        if offers.package(name) is None:
            return Part(word, "not-offered", (), f"no {name} here")
        if sapi == "common":
            return Part(word, "inside", (), f"superfluous: {name} comes along with every package of PHP {branch}")
        return _to_have(word, (name,), survey, offers)
    way: Sapi = sapi if sapi in SAPIS else "fpm"
    offer = offers.runtime_package(branch, way)
    if offer is None:
        return Part(word, "not-offered", (), f"no repository here has PHP {branch} to be run so ({way})")
    if not sapi:
        ways = [runtime.sapi for runtime in survey.runtimes if runtime.branch == branch and runtime.sapi != "cli"]
        if ways:
            return Part(
                word,
                "inside",
                (),
                f"superfluous: PHP {branch} is here already, run by {', '.join(dict.fromkeys(ways))}",
            )
        part = _to_have(word, (offer.name,), survey, offers)
        return msgspec.structs.replace(part, why=f"{part.why}; without a name it may bring a web server of its choice")
    there = _web_server_here(survey)
    installed = {package.name for package in survey.installed or ()}
    brings = [name for name in along(offer.name) if name in packages() and name not in installed]
    if way == "apache2" and there and there != "apache2" and (brings or offer.name not in installed):
        fpm = offers.runtime_package(branch, "fpm")
        instead = (fpm.name,) if fpm else ()
        return Part(word, "second-web-server", instead, f"{offer.name} would bring a second web server beside {there}")
    return _to_have(word, (offer.name,), survey, offers)


def _web_server_here(survey: Survey) -> str | None:
    installed = {package.name for package in survey.installed or ()}
    there = [site.server for site in survey.sites]
    there += [name for name in names() if installed.intersection(webserver(name).packages)]
    return next(iter(there), None)


def _other(word: str, survey: Survey, offers: Offers) -> Part:
    """A package that is none of PHP's."""
    there = _web_server_here(survey)
    mine = next((name for name in names() if word in webserver(name).packages), None)
    if mine and there and mine != there:
        return Part(word, "second-web-server", (), f"would be a second web server beside {there}, which is here")
    if offers.package(word) or any(package.name == word for package in survey.installed or ()):
        return _to_have(word, (word,), survey, offers)
    former = said("packages").get(word.lower(), "")
    today = next((name for name in former.split() if offers.package(name)), None)
    if today:
        return msgspec.structs.replace(_to_have(word, (today,), survey, offers), word=word)
    return Part(word, "not-offered", (), "no package of that name is offered here")


def _to_have(word: str, today: tuple[str, ...], survey: Survey, offers: Offers) -> Part:
    installed = {package.name for package in survey.installed or ()}
    if set(today) <= installed:
        return Part(word, "installed", today, f"{' and '.join(today)} installed already")
    described = [f"{offer.name} {offer.version} ({offer.source})" for name in today if (offer := offers.package(name))]
    return Part(word, "installable", today, "; ".join(described))
