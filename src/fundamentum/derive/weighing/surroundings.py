"""What an application's evidence tells of its surroundings, in the terms of a needs file."""

import itertools
from collections.abc import Iterable, Iterator
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog.services import services
from fundamentum.catalog.suppliers import suppliers
from fundamentum.catalog.symbols import own_extensions
from fundamentum.derive.beside.configuration_samples import CHOSEN, OFFERED
from fundamentum.derive.beside.sql_schemas import WRITTEN_FOR
from fundamentum.derive.result import Entry
from fundamentum.kinds.databases.way import PRODUCTS
from fundamentum.kinds.table_reader import COMMAND, PATH
from fundamentum.model.needs_value import Level

LEVEL: Final[Level] = "recommended"
"""Where a database stands, and how large a file anybody sends in, is for those to say who run the application."""


_OF_OLD: Final = {"mysql": ("mariadb", "mysql")}
"""Databases to which an extension spoke that PHP has no more."""


def surroundings(entries: Iterable[Entry], left_out: Iterable[Entry], wishes: Iterable[Entry]) -> Iterator[Entry]:
    """The wishes, those that a needs file can hold, and the databases whose drivers are needed.

    ``left_out``: extensions that were seen and are no need, among them those that PHP has no more.
    """
    entries = tuple(entries)
    databases = list(_databases(entries))
    yield from databases
    for entry in left_out if not databases else ():
        if products := next((_OF_OLD[name] for name in entry.names if name in _OF_OLD), None):
            rule = "the program speaks to it by an extension that PHP has no more"
            yield Entry("database", products, LEVEL, "", rule, entry.places, entry.files)
    yield from _services(entries)
    wishes = tuple(wishes)
    programs = {entry.names: entry for entry in _programs(entry for entry in wishes if entry.kind == "command")}
    for entry in wishes:
        name = entry.names[0]
        match entry.kind:
            case "setting" if name == "upload_max_filesize" and entry.value.startswith(">="):
                # One limit of several in the way of the same file: the need is the file, not this limit.
                largest = entry.value.removeprefix(">=").strip()
                yield replace(entry, kind="uploads", names=("largest",), value=largest)
            case "command":
                yield from filter(None, [programs.pop(_without_ending(entry), None)])
            case "directory" if not PATH.fullmatch(name) or not {".", ".."}.isdisjoint(name.split("/")):
                continue
            case "directory":
                yield replace(entry, value="writable")
            case _:
                yield entry


def _programs(wishes: Iterable[Entry]) -> Iterator[Entry]:
    """The programs, each once; where any one of several will do, they are one need, and none of them another."""
    every = [replace(entry, names=_without_ending(entry)) for entry in wishes]
    alone = {entry.names[0] for entry in every if len(entry.names) == 1 and entry.level == "required"}
    together = {
        name for entry in every if len(entry.names) > 1 and alone.isdisjoint(entry.names) for name in entry.names
    }
    told: set[str] = set()
    for entry in every:
        several, names = len(entry.names) > 1, frozenset(entry.names)
        unlike = alone if several else together - alone
        if all(map(COMMAND.fullmatch, names)) and unlike.isdisjoint(names) and told.isdisjoint(names):
            told |= names
            yield entry


def _without_ending(entry: Entry) -> tuple[str, ...]:
    return tuple(name.removesuffix(".exe") for name in entry.names)


def _databases(entries: Iterable[Entry]) -> Iterator[Entry]:
    """For every driver that is required, the servers to which it speaks; alternatives stay together.

    And for one that a sample of the configuration chooses, where the program connects to whatever is configured, or
    where nothing else tells which database it needs.
    """
    drivers = suppliers().drivers
    required = {
        name for entry in entries if entry.kind == "extension" and entry.level == "required" for name in entry.names
    }
    open_to_any = "pdo" in required or required.isdisjoint(itertools.chain.from_iterable(drivers.values()))
    seen: set[tuple[str, ...]] = set()
    for entry in entries:
        known = [name for name in entry.names if any(name in driver for driver in drivers.values())]
        needed = entry.level == "required" or (open_to_any and entry.rule in (CHOSEN, OFFERED, WRITTEN_FOR))
        if entry.kind != "extension" or not needed or not known:
            continue
        products = tuple(product for product in PRODUCTS if any(name in drivers[product] for name in known))
        if products not in seen:
            seen.add(products)
            verb = "offered" if entry.rule == OFFERED else "chosen"
            why = "is needed" if entry.level == "required" else f"is {verb} by a sample of the configuration"
            rule = f"its driver {why}: {' or '.join(entry.names)}"
            yield Entry("database", products, LEVEL, "", rule, entry.places, entry.files)


def with_driver(entries: Iterable[Entry]) -> Iterator[Entry]:
    """All needs, with PDO's driver for the database that something beside the source names, if that does not."""
    entries = tuple(entries)
    yield from entries
    extensions = [entry for entry in entries if entry.kind == "extension"]
    named = {name for entry in extensions for name in entry.names}
    uses_it = any(entry.names == ("pdo",) and entry.level == "required" for entry in extensions)
    if not uses_it or not named.isdisjoint(itertools.chain.from_iterable(suppliers().drivers.values())):
        return
    for entry in entries:
        of_product = (name for product in entry.names for name in suppliers().drivers.get(product, ()))
        drivers = tuple(dict.fromkeys(name for name in of_product if name.startswith("pdo_")))
        if entry.kind == "database" and drivers:
            rule = f"the program uses PDO, and {entry.rule}"
            yield Entry("extension", drivers, LEVEL, "", rule, entry.places)


def _services(entries: Iterable[Entry]) -> Iterator[Entry]:
    """The same for other servers, of extensions that are good for nothing but speaking to them."""
    for entry in entries:
        asked = entry.level == "required" or entry.rule == CHOSEN
        if entry.kind != "extension" or not asked or not own_extensions().isdisjoint(entry.names):
            continue
        known = tuple(name for name, service in services().items() if not set(entry.names).isdisjoint(service.drivers))
        spoken = {driver for name in known for driver in services()[name].drivers}
        if known and spoken.issuperset(entry.names):
            why = "is needed" if entry.level == "required" else "is chosen by a sample of the configuration"
            rule = f"its extension {why}: {' or '.join(entry.names)}"
            yield Entry("service", known, LEVEL, "", rule, entry.places, entry.files)
