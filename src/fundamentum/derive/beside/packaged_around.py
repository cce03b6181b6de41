"""What an application's own package depends on beside PHP's extensions: a database, services, programs.

``Depends: default-mysql-server | postgresql, imagemagick`` in a control file of Debian's, ``Requires: redis`` in a spec
file of rpm's.
"""

import re
from collections import defaultdict
from collections.abc import Iterator, Mapping
from functools import cache
from typing import Final

from fundamentum.catalog.services import services
from fundamentum.catalog.suppliers import suppliers
from fundamentum.derive.beside.files_beside import files_in, texts_of
from fundamentum.derive.beside.packaged import PACKAGING_FOLDERS, Relation, relations
from fundamentum.derive.result import Entry, Kind, Place
from fundamentum.kinds.databases.way import PRODUCTS

_ALSO: Final = ("unzip", "git", "ffmpeg", "wkhtmltopdf", "curl", "wget", "rsync", "zip", "tesseract-ocr")
"""Packages called as the program that they bring; of others it is not known whether it is one."""
_ANY_MYSQL: Final = frozenset({"default-mysql-server", "virtual-mysql-server"})
_MAGICK: Final = frozenset({"magick", "convert"})


def packaged_around(root: str, base: str) -> Iterator[Entry]:
    """One entry for all databases, of which any one will do, and one for each service and program."""
    databases: dict[str, Place] = {}
    seen: set[tuple[Kind, tuple[str, ...]]] = set()
    paths = (path for _, path in files_in(root, base, ("", *PACKAGING_FOLDERS)))
    for path, text in texts_of(root, paths):
        for relation in relations(path, text):
            place = Place(path, relation.line, " | ".join(relation.names)[:60])
            for name in relation.names:
                for product in _databases(name):
                    databases.setdefault(product, place)
            for kind, names in _others(relation):
                if (kind, names) not in seen:
                    seen.add((kind, names))
                    yield Entry(kind, names, "recommended", "", relation.why, (place,))
    if databases:
        products = tuple(product for product in PRODUCTS if product in databases)
        places = tuple(dict.fromkeys(databases.values()))
        yield Entry("database", products, "recommended", "", "its package asks for it", places)


def _databases(package: str) -> tuple[str, ...]:
    """The databases whose server a package is, or stands for."""
    if package in _ANY_MYSQL:
        return ("mariadb", "mysql")
    table = suppliers()
    return tuple(
        product
        for product, names in table.products.items()
        if package in names or (names and re.fullmatch(table.installed[product], package))
    )


def _others(relation: Relation) -> Iterator[tuple[Kind, tuple[str, ...]]]:
    """A service of which any one will do, or the programs of a package."""
    named = tuple(dict.fromkeys(name.removesuffix("-server") for name in relation.names))
    known = tuple(name for name in named if name in services())
    if known:
        yield "service", known
    for name in relation.names:
        if commands := _programs().get(name, ()):
            yield "command", commands


@cache
def _programs() -> Mapping[str, tuple[str, ...]]:
    """Package → the program that it is installed for; of a package with several, only where they do the same."""
    brought: dict[str, set[str]] = defaultdict(set)
    for command, packages in suppliers().commands.items():
        for package in packages:
            brought[package].add(command)
    programs: dict[str, tuple[str, ...]] = {name: (name.removesuffix("-ocr"),) for name in _ALSO}
    for package, commands in brought.items():
        if len(commands) == 1 or commands >= _MAGICK:
            programs[package] = ("magick", "convert") if commands >= _MAGICK else tuple(commands)
    return programs
