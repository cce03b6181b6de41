"""Which packages bring commands and databases, and which extensions speak to them."""

import tomllib
from collections.abc import Iterable
from functools import cache
from pathlib import Path

import msgspec


class Suppliers(msgspec.Struct, frozen=True):
    """The catalogue's table.  It says where to look; what there is, the server's own indexes say."""

    commands: dict[str, tuple[str, ...]]
    products: dict[str, tuple[str, ...]]
    installed: dict[str, str]
    drivers: dict[str, tuple[str, ...]]
    places: dict[str, tuple[str, ...]]
    """Where each product waits: paths of sockets, and ``HOST:PORT``."""

    def of_command(self, name: str) -> tuple[str, ...]:
        """Packages that may bring a command: one of its own name, and those of the table."""
        return tuple(dict.fromkeys((*self.commands.get(name, ()), name)))


@cache
def suppliers() -> Suppliers:
    """The table, read once."""
    text = Path(__file__).with_name("suppliers.toml").read_text("utf-8")
    return msgspec.convert(tomllib.loads(text), Suppliers)


def packages_of(commands: Iterable[str]) -> set[str]:
    """The names of packages that may bring these programs; their offers are wanted in the survey."""
    return {package for name in commands for package in suppliers().of_command(name)}
