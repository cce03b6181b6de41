"""Remembering what was derived from a tree, so that an unchanged one need not be read again.

Below ``$XDG_CACHE_HOME/fundamentum`` (``~/.cache/fundamentum``), one small file per tree.  Whatever goes wrong with
it only costs the time that it would have saved.  A file begins with two lines that the standard library reads: what is
wanted most often, and by what an unchanged tree is known; the rest is looked at only where it is asked for.
"""

import json
import os
import zlib
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from fundamentum import __version__
from fundamentum.derive.application.listing import Listing, unchanged
from fundamentum.entries import entry

if TYPE_CHECKING:
    from fundamentum.derive.result import Derived

MAX_KEPT: Final = 100
MAX_SIZE: Final = 64 * 1024 * 1024
"""Bytes; the names and times of the largest tree that is listed take about a quarter."""
_DAMAGED: Final = (OSError, ValueError, KeyError, TypeError, RecursionError, AttributeError)
"""What reading a file that somebody else has had a hand in may raise."""


class Answer(NamedTuple):
    """What was derived from a tree."""

    name: str
    remarks: list[str]
    text: str
    """The needs file, which takes a while to write."""
    packed: bytes = b""
    """The rest, of an answer that was kept."""
    whole: "Derived | None" = None
    """The rest, of a new one."""

    def pack(self) -> bytes:
        """The rest, as it is kept."""
        if self.whole is None:
            return self.packed
        return entry("fundamentum.derive", "result").packed(self.whole)  # type: ignore[no-any-return]

    def derived(self) -> "Derived":
        """All of it, with the evidence."""
        if self.whole is not None:
            return self.whole
        return entry("fundamentum.derive", "result").unpacked(self.packed)  # type: ignore[no-any-return]


def answer(derived: "Derived", text: str) -> Answer:
    """What has just been derived."""
    return Answer(derived.name, list(derived.remarks), text, whole=derived)


def any_of(root: str) -> bool:
    """Whether anything at all is kept of the tree, be it as it is now or as it was."""
    try:
        return _path(os.path.realpath(root)).is_file()
    except OSError:
        return False


def recall(root: str) -> Answer | None:
    """What was derived from a tree in which nothing at all has changed since; None where that is not known."""
    root = os.path.realpath(root)
    try:
        head, watched, packed = _lines(root)
        known = json.loads(watched)
        return _answer(head, packed) if known and unchanged(root, known) else None
    except _DAMAGED:
        return None


def recall_listed(listing: Listing) -> Answer | None:
    """What was derived from a tree in which nothing has changed that counts; None where that is not known."""
    try:
        head, _, packed = _lines(listing.root)
        return _answer(head, packed) if head["stamp"] == listing.stamp else None
    except _DAMAGED:
        return None


def _lines(root: str) -> tuple[dict[str, Any], bytes, bytes]:
    """The parts of the file for a tree.  Raises what ``recall`` catches where there is none, or none of use."""
    path = _path(root)
    if path.stat().st_size > MAX_SIZE:
        raise ValueError
    marked, _, content = path.read_bytes().partition(b"\n")
    if marked != _mark(content):
        raise ValueError("damaged")
    head, _, rest = content.partition(b"\n")
    watched, _, packed = rest.partition(b"\n")
    header = json.loads(head)
    if header["of"] != [_program(), root]:
        raise ValueError
    return header, watched, packed


def _answer(head: dict[str, Any], packed: bytes) -> Answer:
    return Answer(str(head["name"]), [str(remark) for remark in head["remarks"]], str(head["text"]), packed)


def remember(listing: Listing, derived: Answer) -> None:
    """Keep it for the next time, if that is possible."""
    import tempfile  # noqa: PLC0415 — slow to import

    name = ""
    try:
        path = _path(listing.root)
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        others = sorted(path.parent.glob("*.derived"), key=lambda file: file.stat().st_mtime)
        for old in others[: max(len(others) - MAX_KEPT, 0)]:
            old.unlink(missing_ok=True)
        head = {
            "of": [_program(), listing.root], "stamp": listing.stamp,
            "name": derived.name, "remarks": derived.remarks, "text": derived.text,
        }  # fmt: skip
        lines = [json.dumps(record, separators=(",", ":")).encode("ascii") for record in (head, listing.watched())]
        descriptor, name = tempfile.mkstemp(dir=path.parent)
        with open(descriptor, "wb") as stream:
            content = b"\n".join((*lines, derived.pack()))
            stream.write(b"\n".join((_mark(content), content)))
        os.replace(name, path)
    except (OSError, UnicodeEncodeError):
        if name:
            Path(name).unlink(missing_ok=True)


def _mark(content: bytes) -> bytes:
    """By what damage is noticed."""
    return f"{zlib.crc32(content):08x}{zlib.adler32(content):08x}".encode()


def _path(root: str) -> Path:
    """The file for a tree; an ``OSError`` where there is no place for it, as for a user without a home directory."""
    base = os.environ.get("XDG_CACHE_HOME", "")
    try:
        base = base if Path(base).is_absolute() else str(Path.home() / ".cache")
    except RuntimeError as error:
        raise OSError(str(error)) from error
    encoded = root.encode("utf-8", "surrogateescape")
    return Path(base, "fundamentum", f"{zlib.crc32(encoded):08x}{zlib.adler32(encoded):08x}.derived")


def _program() -> str:
    """Changes with the program, so that an answer of an older one is not taken for its own."""
    derive = Path(__file__).parents[1]
    catalog = derive.parent / "catalog"
    rooms = [room.path for room in os.scandir(derive) if room.is_dir() and not room.name.startswith("_")]
    newest = 0
    for directory in (str(derive), *rooms, str(catalog), str(catalog / "data")):
        with os.scandir(directory) as files:
            newest = max(newest, *(file.stat().st_mtime_ns for file in files if file.is_file()))
    return f"{__version__} {newest}"
