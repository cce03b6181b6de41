"""Packages: what is installed on a server, what its repositories offer, and the repositories themselves."""

import msgspec

from fundamentum.model.safe_text import PackageName, Text, Version
from fundamentum.model.survey_fact import Fact
from fundamentum.model.system import System


class Installed(Fact, frozen=True):
    """One installed package."""

    name: PackageName
    version: Version
    provides: Text = ""
    """The ``Provides`` field as it stands in the package database."""
    held: bool = False
    """Whether it is kept at its version (``apt-mark hold``)."""
    bound: Text = ""
    """Those of its relations that another version of what it depends on may break."""


class Offer(Fact, frozen=True):
    """One package that a repository index holds.  Relation fields stand as in the index."""

    name: PackageName
    version: Version
    source: Text
    """The repository in words: label, suite and component."""
    architecture: Text = ""
    provides: Text = ""
    depends: Text = ""
    pre_depends: Text = ""
    recommends: Text = ""
    """A plan installs nothing for being recommended; it may name such a package itself: the web server of a module."""
    conflicts: Text = ""
    """``Conflicts`` and ``Breaks`` together."""
    built_from: Text = ""
    """The source package it was built from, and its version, where it names one: ``gcc-14 14.2.0-19``."""
    section: Text = ""
    size: int = 0
    """Bytes to be fetched."""
    space: int = 0
    """Bytes it takes once it is installed."""
    priority: int = 500
    """How much it is preferred, as ``apt-cache policy`` shows it.  Below 0: never installed."""
    stream: Text = ""
    """The module stream it belongs to (``php:8.2``)."""
    shut_out: Text = ""
    """Why it cannot be installed as things are, though it is there: another module stream is switched on, it is on
    hold."""


class Repository(Fact, frozen=True):
    """One package source that is configured, as its own index describes it."""

    name: Text
    """As :attr:`Offer.source` names it."""
    origin: Text = ""
    label: Text = ""
    suite: Text = ""
    codename: Text = ""
    component: Text = ""
    fetched: int | None = None
    """When its index was fetched, in seconds since 1970."""


class Packages(msgspec.Struct):
    """What the package database and the repositories' indexes say."""

    system: System
    installed: tuple[Installed, ...] | None
    owners: dict[str, str]
    offers: tuple[Offer, ...] | None
    repositories: list[Repository]
    bringing: dict[str, list[str]] = {}
    """Command that was asked for → the packages that bring it, from indexes of commands and files."""
    safe_offers: bool = False
    """Whether no text of the offers can steer anything: they are most of a survey, and looked at as they are read."""


class Relation(msgspec.Struct, frozen=True):
    """One package that another depends on, and which versions of it will do."""

    name: str
    operator: str | None = None
    version: str | None = None
