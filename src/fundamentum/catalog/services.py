"""Services that applications speak to, beside databases: the words of ``services.toml``."""

import tomllib
from functools import cache
from pathlib import Path

import msgspec


class Service(msgspec.Struct, frozen=True):
    """One service."""

    title: str
    packages: tuple[str, ...]
    """Those that bring it, the likeliest first."""
    installed: str
    """A regular expression that fits installed packages whose version is the server's."""
    services: tuple[str, ...]
    """What it is called where it is started; each family has one of these."""
    ports: tuple[int, ...] = ()
    sockets: tuple[str, ...] = ()
    drivers: tuple[str, ...] = ()
    """The extensions of PHP that speak to it, of which any one will do."""
    decided: bool = False
    """Whether a person decides which one it is, and sets it up."""
    asks: str = ""
    """What is sent to it; empty: it speaks first."""
    answers: str = ""
    """A regular expression for what it says, with a group ``version`` or ``there``."""


@cache
def services() -> dict[str, Service]:
    """All services that are known, by the name that a needs file has for them."""
    text = Path(__file__).with_name("services.toml").read_text("utf-8")
    return msgspec.convert(tomllib.loads(text), dict[str, Service])
