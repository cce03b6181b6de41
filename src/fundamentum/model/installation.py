"""One program that runs PHP on a server, and where it reads what."""

import re
from typing import Final

import msgspec

from fundamentum.model.php import Sapi

INI_NAMES: Final[dict[Sapi, str]] = {
    "cli": "php-cli.ini",
    "fpm": "php-fpm-fcgi.ini",
    "apache2": "php-apache2handler.ini",
    "cgi": "php-cgi-fcgi.ini",
    "other": "php.ini",
}
"""The file that is read instead of ``php.ini`` if it is there.  Source: php.net, "The configuration file"."""


class Build(msgspec.Struct, frozen=True):
    """What a PHP asks of every extension file it loads.  Empty: not known, and then not asked."""

    api: str
    """Module API number: ``20220829``."""
    thread_safe: bool = False
    debug: bool = False
    processor: str = ""
    system: str = "Linux"
    compiler: str = ""
    """Windows only: ``VS16``."""


class Installation(msgspec.Struct, frozen=True):
    """What is known of one program before any of its configuration is read."""

    branch: str
    sapi: Sapi
    program: str
    version: str | None
    ini_folder: str
    scan_dirs: tuple[str, ...]
    extension_dir: str
    build: Build
    also: tuple[str, ...] = ()
    """Other files that are the same program."""
    home: str = ""
    """Where this PHP stands, if it is not the distribution's own."""
    fpm_config: str | None = None
    service: str | None = None
    switches: str | None = None
    """The directory of ini files that can be switched on, where the distribution has one."""
    inside: tuple[str, ...] | None = None
    """The extensions compiled into it; None: those of the catalogue."""
    defaults: tuple[str, ...] = ()
    """Files that the start script of a system without systemd takes options and variables from."""
    master: str = ""
    """The service, where this is another process manager of the branch than the packaged one."""
    ini_files: tuple[str, ...] | None = None
    """Where its php.ini is looked for, in order; None: where such a PHP usually does."""
    packaged_dirs: tuple[str, ...] | None = None
    """The scan directories that packages switch extensions on in; None: those that are read."""
    variables: dict[str, str] = {}
    """Those that decide which files it reads, of the environment that every program has here."""
    built_in_dir: str = ""
    """The value of ``extension_dir`` unless that is set, where that is not :attr:`extension_dir`."""
    sample: str = ""
    """A php.ini that PHP brings and does not read, to be copied."""
    serves: bool = False
    """Whether it serves web pages as far as its own files tell."""


def branch_in(version: str | None) -> str | None:
    """``8.2`` of ``8.2.9-1``."""
    match = re.match(r"[0-9]{1,3}\.[0-9]{1,3}(?![0-9])", version or "")
    return match[0] if match else None
