"""What each file was when the server was looked at, so that a script made later can tell whether it still is."""

import hashlib
import posixpath
import re
from collections.abc import Iterable
from typing import Final

from fundamentum.hosts.base import MAX_TEXT, Host, HostError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.file_mark import HOST_NAME, LEFTOVER
from fundamentum.model.safe_text import is_path
from fundamentum.model.survey import Site
from fundamentum.survey.probes.php_config import Configuration
from fundamentum.untrusted.secrets import names_a_secret, without_credentials

MAX_MARKS: Final = 2000
_SAID: Final = lazy_regex(r"^[^\S\n]*[^\s;#].*", re.M)
"""A line that is neither empty nor a comment: most lines of most configurations are."""


def marks(host: Host, read: Iterable[str]) -> dict[str, str]:
    """The mark of each of these files and directories, and of the file with the server's name."""
    paths = dict.fromkeys([HOST_NAME, *read])
    judged: dict[bytes, bool] = {}
    by_path = {path: _mark(host, path, judged) for path in list(paths)[:MAX_MARKS] if is_path(path)}
    return {path: mark for path, mark in by_path.items() if mark}


def deciding(program: str, configuration: Configuration, pool_folder: str | None) -> tuple[str, ...]:
    """What decides what a runtime can do: its program, its configuration's files, and directories for more of them."""
    folders = (configuration.scan_dir, pool_folder)
    ini = (configuration.ini_file,) if configuration.ini_file else ()
    return tuple(
        dict.fromkeys([program, *ini, *configuration.files, *(folder for folder in folders if is_path(folder))])
    )


def of_web_server(files: Iterable[str]) -> list[str]:
    """A web server's files, and the directories in which they stand, below the first."""
    files = list(files)
    return [*files, *dict.fromkeys(posixpath.dirname(path) for path in files[1:])]


def of_site(site: Site) -> list[str]:
    """The files that may stand in a site's document root, and those that are there below it."""
    root = (site.root or "").rstrip("/")
    layers = (layer for layer in site.layers if layer.kind in ("user-ini", "htaccess"))
    files = [origin.file for layer in layers for origin in (layer.origin, *(value.origin for value in layer.values))]
    return list(dict.fromkeys([*(f"{root}/{name}" for name in (".user.ini", ".htaccess") if root), *files]))


def _mark(host: Host, path: str, judged: dict[bytes, bool]) -> str:
    """The mark; empty where the file cannot be read.  ``judged``: contents, and whether a secret is in them."""
    about = host.stat(path)
    if about is None:
        return "absent"
    try:
        if about.is_directory:
            names = (name for name in host.names(path) if not re.search(LEFTOVER, name))
            return f"names:{_digest(b''.join(name.encode() + bytes([10]) for name in names))}"
        content = host.read(path, MAX_TEXT) if host.whole and about.size <= MAX_TEXT else None  # a program
    except (HostError, UnicodeEncodeError):
        return ""
    if content is not None and content not in judged:
        judged[content] = _holds_a_secret(content)
    if content is None or judged[content]:
        return f"time:{host.whole_size(path, about.size)}:{int(about.modified)}"
    return f"sha256:{_digest(content)}"


def _digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def _holds_a_secret(content: bytes) -> bool:
    for match in _SAID.finditer(content.replace(b"\r", b"\n").decode("utf-8", "replace")):
        text = match[0].strip()
        name, _, value = text.partition("=") if "=" in text else text.partition(" ")
        if not value or not value.strip(" \"';"):
            continue
        if name.startswith("env[") or names_a_secret(name) or without_credentials(text) != text:
            return True
    return False
