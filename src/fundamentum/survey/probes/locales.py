"""Which locales a system has.  Source: ``locarchive.h`` and ``localedef`` in glibc."""

import struct
from typing import Final

from fundamentum.hosts.base import Host, HostError, Question, listed
from fundamentum.model.safe_text import is_plain
from fundamentum.model.surrounding_facts import Answer

FOLDER: Final = "/usr/lib/locale"
ARCHIVE: Final = f"{FOLDER}/locale-archive"
_MAGIC: Final = 0xDE020109
_HEAD: Final = struct.Struct("=8I")
"""Magic number, serial number, and three numbers of the table of names; then place, used and whole size of texts."""
MAX_TEXTS: Final = 1024 * 1024
MAX_NAMES: Final = 2000


def probe(host: Host) -> Answer:
    """The names of all locales, in the archive and as directories."""
    if not host.whole:
        told = host.answer(Question("locales", ()))
        return Answer(None) if told is None else _answer(told.decode("utf-8", "replace").splitlines())
    names = [name for name in listed(host, FOLDER) if name != "locale-archive"]
    try:
        names += _in_archive(host)
    except (HostError, OSError, struct.error):
        return Answer(None)
    return _answer(names)


def _answer(names: list[str]) -> Answer:
    return Answer(True, tuple(sorted({name for name in names[:MAX_NAMES] if is_plain(name)})))


def _in_archive(host: Host) -> list[str]:
    stream = host.stream(ARCHIVE)
    if stream is None:
        return []
    with stream:
        head = _HEAD.unpack(stream.read(_HEAD.size))
        if head[0] != _MAGIC:
            return []
        start, used = head[5], min(head[6], MAX_TEXTS)
        if start > MAX_TEXTS:
            return []
        rest = stream.read(start - _HEAD.size + used)
    texts = rest[start - _HEAD.size :]
    return [part.decode("ascii", "replace") for part in texts.split(b"\0") if b"_" in part or part.startswith(b"C")]
