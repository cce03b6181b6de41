"""What those who package an application install with it: a container's file, the control file of a package.

``RUN php-ext-install intl gd``, ``RUN apt-get install -y php8.2-intl``, ``Depends: php-intl, php-gd``,
``Requires: php-intl, php(gd)``
"""

import re
from collections.abc import Iterator
from typing import Final, NamedTuple

from fundamentum.catalog.symbols import EVERYWHERE
from fundamentum.derive.beside.files_beside import files_in, line_at, texts_of
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.derive.result import Entry, Place, advised_branch
from fundamentum.model.needs_value import Level

PACKAGING_FOLDERS: Final = ("debian", "rpm")
CONTAINER_FOLDERS: Final = (
    *("", "docker", ".docker", "build", "docker/php", "deploy", "container"), *PACKAGING_FOLDERS,
)  # fmt: skip
CONTAINER: Final = re.compile(r"(?:Docker|Container)file(?:[.-][\w.-]+)?|[\w.-]+\.(?:docker|container)file", re.I)
_INSTALLING: Final = re.compile(
    r"\b(?:(?:\w{1,20}-){0,4}ext-(?:install|enable)|install-(?:\w{1,20}-)?extensions|pecl\s+install|"
    r"[a-z][a-z-]{1,15}\s+(?:-\S+\s+)*(?:install|add))\s+(?P<names>[^&;|\n]+)"
)
"""Whichever program installs: what it is given has to be called as packages of extensions are."""
_PACKAGE: Final = re.compile(r"php(?:\d+(?:\.\d+)?)?-(?:pecl-|php-)?(?P<name>[a-z][\w-]*)")
_BASE: Final = re.compile(
    r"^[ \t]*FROM[ \t]+(?:--\S+[ \t]+)?(?:[\w.:-]+/)*php:(?:(?P<branch>\d\.\d{1,2})|\$\{?(?P<argument>\w{1,40}))",
    re.M | re.I,
)
"""``FROM php:8.3-fpm``, or with an argument of the file."""
_CONTROL: Final = re.compile(r"control|[\w.-]+\.spec")
_RELATION: Final = re.compile(r"^(?P<field>Depends|Requires|Recommends|Suggests):(?P<names>.*(?:\n[ \t].*)*)", re.M)
_PROVIDED: Final = re.compile(r"php\((?P<name>[a-z][a-z\d_-]*)\)")
"""An extension as what a package of rpm's provides."""
_VERSION: Final = re.compile(r"\s*(?:\([^()]*\)|[<>=]+\s*\S+)\Z")
MAX_NAME: Final = 200
"""Characters of a package's name with its version."""
_WHY: Final = {
    **dict.fromkeys(("Depends", "Requires"), "its package depends on it"),
    "Recommends": "its package recommends it",
    "Suggests": "its package suggests it",
}
_OF_PACKAGES: Final = dict.fromkeys(("mysql", "mysqlnd"), ("mysqli", "pdo_mysql"))
"""What packages bring that are called after something else."""
_NO_EXTENSION: Final = frozenset({"cli", "fpm", "cgi", "common", "dev", "phpdbg", "pear", "opcache"})


def packaged_with(root: str, base: str, named: frozenset[str]) -> Iterator[Entry]:
    """The extensions that are installed with the application, but those that something else has ``named``."""
    seen = set(named)
    paths = (path for _, path in files_in(root, base, CONTAINER_FOLDERS) if _counts(path.rpartition("/")[2]))
    for path, text in texts_of(root, paths):
        control = _CONTROL.fullmatch(path.rpartition("/")[2]) is not None
        yield from _php(path, text) if control else ()
        statements = _of_control(path, text) if control else _of_container(text)
        for extension, level, line, rule in statements:
            names = _OF_PACKAGES.get(extension, (extension,))
            if seen.isdisjoint(names) and EVERYWHERE.isdisjoint(names):
                seen.update(names)
                yield Entry("extension", names, level, "", rule, (Place(path, line, extension, rule),))


def branch_of_container(root: str, base: str) -> Iterator[Entry]:
    """The branch of PHP on which the application's container is built: it is what its makers run it on."""
    paths = (
        path for _, path in files_in(root, base, CONTAINER_FOLDERS) if CONTAINER.fullmatch(path.rpartition("/")[2])
    )
    for path, text in texts_of(root, paths):
        for match in _BASE.finditer(text):
            given = (
                re.search(rf"^ARG[ \t]+{match['argument']}=[\"']?(\d\.\d{{1,2}})", text, re.M)
                if match["argument"]
                else None
            )
            if branch := match["branch"] or (given[1] if given else ""):
                place = Place(path, line_at(text, match.start()), match[0].strip()[:60])
                yield advised_branch(branch, "its container is built with it", place)


def branch_of_developers(root: str, base: str) -> Iterator[Entry]:
    """The branch of PHP that a file tells the programs of developers which switch between several."""
    paths = [path for _, path in files_in(root, base, ("",)) if path.rpartition("/")[2] in _SWITCHED]
    for path, text in texts_of(root, paths):
        if match := _SWITCHED[path.rpartition("/")[2]].search(text):
            place = Place(path, line_at(text, match.start(1)), match[0].strip()[:60])
            yield advised_branch(match[1], "its makers run it on it", place)


_SWITCHED: Final = {
    ".php-version": re.compile(r"\A\s*(?:php-)?([5-9]\.\d{1,2})"),
    ".tool-versions": re.compile(r"^php[ \t]+([5-9]\.\d{1,2})", re.M),
}


def _counts(name: str) -> bool:
    return _CONTROL.fullmatch(name) is not None or CONTAINER.fullmatch(name) is not None


def installs_packages(line: str) -> bool:
    """Whether a line of a shell installs packages of PHP's extensions: ``apt install php-intl``."""
    return any(_PACKAGE.fullmatch(word) for match in _INSTALLING.finditer(line) for word in match["names"].split())


def _of_container(text: str) -> Iterator[tuple[str, Level, int, str]]:
    """What commands of a container's file install; lines that go on are one."""
    joined = re.sub(r"\\\r?\n", lambda end: " " * len(end[0]), text)  # of the same length, so that places stay
    for match in _INSTALLING.finditer(joined):
        line = line_at(text, match.start())
        packages = not re.match(r"(?:\w{1,20}-){0,4}ext-|pecl|install-", match[0])
        for word in match["names"].split():
            of = _PACKAGE.fullmatch(word) if packages else None
            plain = (of["name"] if of else "") if packages else re.sub(r"[-@].*", "", word)
            if plain not in _NO_EXTENSION and (name := extension_called(plain.encode("utf-8", "replace"))):
                yield name, "recommended", line, "its container is built with it"


class Relation(NamedTuple):
    """One relation of a package to others, of which any one will do."""

    names: tuple[str, ...]
    """Of packages, without their versions."""
    line: int
    level: Level
    why: str
    written: str
    """With the versions."""


def relations(path: str, text: str) -> Iterator[Relation]:
    """What a package depends on by its control file of Debian's, or its spec file of rpm's; other files have none."""
    for match in _RELATION.finditer(text) if _CONTROL.fullmatch(path.rpartition("/")[2]) else ():
        line = line_at(text, match.start())
        level: Level = "required" if match["field"] in ("Depends", "Requires") else "recommended"
        # Blanks are told apart first: a pattern that begins with many of them would take quadratic time.
        for group in re.split(r",|(?<!\|) (?=php[-(])", " ".join(match["names"].split())):
            written = group.strip()[: MAX_NAME * 4]
            names = tuple(_VERSION.sub("", name.strip()[:MAX_NAME]) for name in written.split("|"))
            yield Relation(names, line, level, _WHY[match["field"]], written)


def _of_control(path: str, text: str) -> Iterator[tuple[str, Level, int, str]]:
    """The extensions that a package depends on; of alternatives any one will do, and none is named."""
    for relation in relations(path, text):
        if len(relation.names) == 1:
            of = _PROVIDED.fullmatch(relation.written) or _PACKAGE.fullmatch(relation.names[0])
            if of and of["name"] not in _NO_EXTENSION and (extension := extension_called(of["name"].encode())):
                yield extension, relation.level, relation.line, relation.why


_OF_PHP: Final = re.compile(
    r"(?<![\w-])(?:php|php-(?:common|cli|fpm|cgi)|lib[a-z\d]+-mod-php|php\(language\))\s*\(?\s*(?P<sign>>=|<<|<)\s*"
    r"(?:\d:)?(?P<version>\d{1,2}(?:\.\d{1,3}){0,2})(?![\w.])",
)
"""``php (>= 2:8.1)``, ``php(language) >= 8.1``"""


def _php(path: str, text: str) -> Iterator[Entry]:
    """The versions of PHP that a package depends on."""
    bounds: dict[str, tuple[str, int]] = {}
    for relation in relations(path, text):
        for match in _OF_PHP.finditer(relation.written) if relation.level == "required" else ():
            sign = match["sign"][0]
            value = f"{sign}=" if sign == ">" else sign
            bounds.setdefault(sign, (f"{value}{match['version']}", relation.line))
    if bounds:
        value = ", ".join(bounds[sign][0] for sign in "><" if sign in bounds)
        places = tuple(Place(path, line, f"php {bound}") for bound, line in bounds.values())
        yield Entry("php", (), "required", value, "its package depends on it", places)
