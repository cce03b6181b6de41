"""Layers of configuration: what one place sets for the requests of one site, beside what the runtime has for all."""

from typing import Literal

from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.safe_text import DirectiveName, Text
from fundamentum.model.surrounding_facts import Spot
from fundamentum.model.survey_fact import Fact

LayerKind = Literal[
    "server", "directory", "htaccess", "files", "location", "request", "request-admin", "user-ini", "start"
]
"""Which place it is.  The first five are the web server's own, for PHP as a module in it, in the order in which they
are applied: its main configuration and virtual host, directories, files in directories, files by name, locations.  Then
what is sent along with a request over FastCGI (``PHP_VALUE``, ``PHP_ADMIN_VALUE``), PHP's own files in
directories, and the environment with which a program is started for the request."""


class Assignment(Fact, frozen=True, array_like=True):
    """One directive and the value it is given."""

    name: DirectiveName
    value: Text | None
    """None: it cannot be known."""
    origin: Origin
    admin: bool = False
    """Whether later places may not change it (``php_admin_value``)."""
    spot: Spot | None = None
    """The line exactly as it stands; None where it is not known, or not to be changed: it holds what a plan should not
    repeat, or a link leads there."""


class Layer(Fact, frozen=True):
    """What one place sets."""

    kind: LayerKind
    values: tuple[Assignment, ...] = ()
    origin: Origin = BUILT_IN
    """Where the place is, or begins."""
    unread: Text = ""
    """Why it cannot be known what it sets: it may set anything."""
    below: Text = ""
    """The part of the site it counts for, as a path below the document root; empty: all of it."""


class Section(Fact, frozen=True):
    """A ``[PATH=…]`` or ``[HOST=…]`` section of a php.ini: it counts for some requests of FPM and CGI."""

    kind: Literal["path", "host"]
    match: Text
    """The directory or the host name."""
    values: tuple[Assignment, ...] = ()
