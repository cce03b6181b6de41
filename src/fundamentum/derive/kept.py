"""Remembering what was derived from a tree, so that an unchanged one need not be read again.

Below ``$XDG_CACHE_HOME/fundamentum`` (``~/.cache/fundamentum``), one small file per tree.  Whatever goes wrong with
it only costs the time that it would have saved.
"""

import hashlib
import os
import tempfile
from pathlib import Path
from typing import Final

import msgspec

from fundamentum import __version__
from fundamentum.derive.result import Derived
from fundamentum.derive.tree import Tree

MAX_KEPT: Final = 40
MAX_SIZE: Final = 16 * 1024 * 1024


class _Kept(msgspec.Struct, frozen=True, array_like=True):
    program: str
    root: str
    stamp: str
    derived: Derived
    text: str
    """The needs file, which takes a while to write."""


def recall(tree: Tree) -> tuple[Derived, str] | None:
    """What was derived from the tree as it is now, and the needs file; None where that is not known."""
    try:
        path = _path(tree)
        if path.stat().st_size > MAX_SIZE:
            return None
        kept = msgspec.msgpack.decode(path.read_bytes(), type=_Kept)
    except (OSError, ValueError, msgspec.DecodeError):
        return None
    same = (kept.program, kept.root, kept.stamp) == (_program(), tree.root, tree.stamp)
    return (kept.derived, kept.text) if same else None


def remember(tree: Tree, derived: Derived, text: str) -> None:
    """Keep it for the next time, if that is possible."""
    name = ""
    try:
        path = _path(tree)
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        others = sorted(path.parent.glob("*.derived"), key=lambda one: one.stat().st_mtime)
        for old in others[: max(len(others) - MAX_KEPT, 0)]:
            old.unlink(missing_ok=True)
        descriptor, name = tempfile.mkstemp(dir=path.parent)
        with open(descriptor, "wb") as stream:
            stream.write(msgspec.msgpack.encode(_Kept(_program(), tree.root, tree.stamp, derived, text)))
        os.replace(name, path)
    except (OSError, UnicodeEncodeError):
        if name:
            Path(name).unlink(missing_ok=True)


def _path(tree: Tree) -> Path:
    base = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    name = hashlib.blake2b(tree.root.encode("utf-8", "surrogateescape"), digest_size=16).hexdigest()
    return Path(base, "fundamentum", f"{name}.derived")


def _program() -> str:
    """Changes with the program, so that an answer of an older one is not taken for its own."""
    here = Path(__file__).parent
    newest = 0
    for directory in (here, here.parent / "catalog", here.parent / "catalog/data"):
        with os.scandir(directory) as files:
            newest = max(newest, *(file.stat().st_mtime_ns for file in files if file.is_file()))
    return f"{__version__} {newest}"
