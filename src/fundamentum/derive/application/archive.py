"""An application's archive (zip, tar, phar) as a directory to derive from: only what deriving looks at is taken out.

It is put into memory where the system has a place for that (``/dev/shm``), else into a temporary directory, and is gone
again afterwards.  Nothing leads outside of it: links are left out, and names with ``..`` or a root.
"""

import bz2
import io
import os
import re
import shutil
import struct
import tarfile
import tempfile
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO, Final

import msgspec

from fundamentum.derive.application.archive_names import ENDINGS
from fundamentum.errors import InputError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.untrusted.decompress import BadPacking, pieces

MAX_MEMBERS: Final = 200_000
MAX_TOTAL: Final = 400 * 1024 * 1024
"""Bytes of what is taken out: the largest applications have a fifth of that."""
MAX_MEMBER: Final = 16 * 1024 * 1024
_MEMORY: Final = "/dev/shm"
_TAKEN: Final = lazy_regex(
    r"\.(?:php\d?|inc|module|install|phtml|ctp|json|lock|ini|env|md|markdown|rst|txt|html?|ya?ml|xml|toml|neon|dist|"
    r"sample|example|conf|cron|timer|service|sql|sh|bash|adoc|asciidoc)$|^\.(?:htaccess|user\.ini|env[\w.]*)$|^style\.css$|^[^.]+$",
    re.I,
)
_HALT: Final = lazy_regex(rb"__HALT_COMPILER\(\);(?:[ \t]*\?>)?(?:\r\n|\n)?")
_BROKEN: Final = (
    OSError, EOFError, ValueError, KeyError, RuntimeError, NotImplementedError, struct.error, zlib.error,
    zipfile.BadZipFile, tarfile.TarError, BadPacking, OverflowError, MemoryError,
)  # fmt: skip


class Archive(msgspec.Struct):
    """An archive that is taken apart."""

    root: Path
    """The application's directory: the only one at the top, where there is only one."""
    remarks: list[str]


class _Taking:
    """Puts members into a directory, within bounds."""

    def __init__(self, folder: Path, where: str) -> None:
        self.folder, self.where = folder, where
        self.members = self.total = self.links = self.outside = self.large = 0

    def wants(self, name: str, size: int) -> bool:
        """Whether deriving looks at a member of that name."""
        self.members += 1
        if self.members > MAX_MEMBERS:
            raise InputError(self.where, f"holds more than {MAX_MEMBERS:,} files: no application's archive")
        if not _TAKEN.search(name.rpartition("/")[2]):
            return False
        if size > MAX_MEMBER:
            self.large += 1
            return False
        return True

    def take(self, name: str, data: bytes) -> None:
        """One member."""
        parts = [part for part in name.replace("\\", "/").split("/") if part not in ("", ".")]
        if name.startswith("/") or ".." in parts or "\0" in name or not parts or any(len(part) > 255 for part in parts):
            self.outside += 1
            return
        self.total += len(data)
        if self.total > MAX_TOTAL:
            raise InputError(self.where, f"unpacks to more than {MAX_TOTAL >> 20} MiB: no application's archive")
        target = self.folder.joinpath(*parts)
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(data)
        except (FileExistsError, NotADirectoryError, IsADirectoryError):
            self.outside += 1  # a file and a directory of one name

    def remarks(self) -> Iterator[str]:
        """What was passed over."""
        if self.links:
            yield f"{self.links} links are not followed"
        if self.outside:
            yield f"{self.outside} members with names that lead elsewhere are passed over"
        if self.large:
            yield f"{self.large} files larger than {MAX_MEMBER >> 20} MiB are passed over"


@contextmanager
def opened(path: Path) -> Iterator[Archive]:
    """The archive, taken apart for a while.  Raises :class:`InputError` for what is none, or is damaged."""
    memory = _MEMORY if Path(_MEMORY).is_dir() and os.access(_MEMORY, os.W_OK) else None
    folder = Path(tempfile.mkdtemp(prefix="fundamentum-", dir=memory))
    try:
        taking = _Taking(folder, str(path))
        try:
            with path.open("rb") as stream:
                _members(stream, path, taking)
        except InputError:
            raise
        except _BROKEN as error:
            raise InputError(str(path), f"cannot be read as an archive: {str(error)[:120] or 'damaged'}") from error
        inside = sorted(folder.iterdir())
        only = inside[0] if len(inside) == 1 and inside[0].is_dir() else folder
        if only is folder:  # it is called like the archive, not like the place it was put into
            named = folder / _stem(path)
            only = folder if named.exists() else _moved(inside, named)
        yield Archive(only, list(taking.remarks()))
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _moved(inside: list[Path], to: Path) -> Path:
    to.mkdir()
    for path in inside:
        path.rename(to / path.name)
    return to


def _stem(path: Path) -> str:
    ending = next(ending for ending in sorted(ENDINGS, key=len, reverse=True) if path.name.lower().endswith(ending))
    return path.name[: -len(ending)].strip(".") or "application"


def _members(stream: BinaryIO, path: Path, taking: _Taking) -> None:
    head = stream.read(4)
    stream.seek(0)
    if head == b"PK\3\4" or path.suffix.lower() == ".zip":
        _of_zip(stream, taking)
    elif path.suffix.lower() == ".phar" and head[:2] not in (b"\x1f\x8b", b"BZ"):
        _of_phar(stream.read(MAX_TOTAL), taking)
    else:
        _of_tar(stream, head, taking)


def _of_zip(stream: BinaryIO, taking: _Taking) -> None:
    with zipfile.ZipFile(stream) as archive:
        for member in archive.infolist():
            if member.external_attr >> 28 == 0o12:
                taking.links += 1
            elif not member.is_dir() and taking.wants(member.filename, member.file_size):
                with archive.open(member) as content:
                    taking.take(member.filename, content.read(MAX_MEMBER))


def _of_tar(stream: BinaryIO, head: bytes, taking: _Taking) -> None:
    if head == b"\x28\xb5\x2f\xfd":
        unpacked = b"".join(pieces(stream.read(MAX_TOTAL), ".zst", MAX_TOTAL))
        archive = tarfile.open(fileobj=io.BytesIO(unpacked), mode="r:")  # noqa: SIM115
    else:
        archive = tarfile.open(fileobj=stream, mode="r|*")  # noqa: SIM115
    with archive:
        for member in archive:
            archive.members = []  # type: ignore[attr-defined]  # or it would remember every one of them
            if member.issym() or member.islnk():
                taking.links += 1
            elif member.isreg() and not member.issparse() and taking.wants(member.name, member.size):
                content = archive.extractfile(member)
                taking.take(member.name, content.read(MAX_MEMBER) if content else b"")


def _of_phar(data: bytes, taking: _Taking) -> None:
    """Source: php.net, "Phar File Format"."""
    match = _HALT.search(data)
    if match is None:
        raise ValueError("no phar: there is no end of its program")
    at = match.end()
    length, count = struct.unpack_from("<II", data, at)
    start = at + 4 + length
    alias = struct.unpack_from("<I", data, at + 14)[0]
    at += 18 + alias
    at += 4 + struct.unpack_from("<I", data, at)[0]
    entries: list[tuple[str, int, int, int]] = []
    for _ in range(min(count, MAX_MEMBERS + 1)):
        size = struct.unpack_from("<I", data, at)[0]
        name = data[at + 4 : at + 4 + size].decode("utf-8", "replace")
        at += 4 + size
        full_size, _, packed, _, flags, extra = struct.unpack_from("<IIIIII", data, at)
        at += 24 + extra
        entries.append((name, full_size, packed, flags))
    for name, full_size, packed, flags in entries:
        content = data[start : start + packed]
        start += packed
        if not name.endswith("/") and taking.wants(name, full_size):
            taking.take(name, _unpacked(content, flags))


def _unpacked(content: bytes, flags: int) -> bytes:
    if flags & 0x1000:
        return zlib.decompressobj(-15).decompress(content, MAX_MEMBER)
    return bz2.BZ2Decompressor().decompress(content, MAX_MEMBER) if flags & 0x2000 else content
