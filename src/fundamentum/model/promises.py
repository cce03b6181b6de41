"""What a plan promises of the server as it is afterwards, in a form that the server itself can be asked."""

from typing import Literal

from fundamentum.model.needs_value import Value

Asks = Literal["version", "extension", "function", "setting", "run", "write", "read"]
"""PHP's branch; whether an extension is loaded, or a function there; a directive's value as ``ini_get`` has it;
whether PHP's user may run a program, write to a directory, or read it."""


class Promise(Value, frozen=True):
    """One thing that is so afterwards."""

    need: str
    """The need that it belongs to."""
    asks: Asks
    name: str
    """The extension in lower case, the directive, the path; empty for PHP itself."""
    value: str
    """The branch, ``loaded``, the value; empty where nothing is compared."""


class Proof(Value, frozen=True):
    """Where the promises to one application are asked about: over HTTP, of PHP's process manager, or of a program."""

    application: str
    runtime: str
    host: str = ""
    """The name of the site."""
    port: int | None = None
    """Where the site answers plain HTTP on the machine itself; None: nowhere that is known."""
    listen: str = ""
    """Where the pool waits."""
    sent: tuple[tuple[str, str], ...] = ()
    """What the web server sends the pool with each request of the site: ``PHP_VALUE``, and one of its lines."""
    root: str = ""
    """The site's document root."""
    program: str = ""
    """PHP itself, where it is run on the command line."""
    user: str = ""
    group: str = ""
    """The group that its processes have, where it is not the user's own."""
    promises: tuple[Promise, ...] = ()
