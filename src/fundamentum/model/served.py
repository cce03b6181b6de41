"""What a web site serves: the application that stands behind it, and in which directory."""

from pathlib import Path

import msgspec


class Served(msgspec.Struct, frozen=True):
    """One site, and what it serves."""

    site: str
    """Its name; with a part of it, that behind a blank, as ``--runtime`` takes it."""
    root: str
    """Its document root."""
    folder: str = ""
    """The application's directory on the server; empty where there is none, and ``why`` tells that."""
    directory: Path | None = None
    """The same where this program reads it."""
    why: str = ""
