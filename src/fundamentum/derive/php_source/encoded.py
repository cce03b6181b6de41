"""Encoded files: a stub that looks for the loader which can read the rest."""

import re
from typing import Final

_READABLE: Final = bytes(byte for byte in range(127) if byte > 31 or 8 < byte < 14)
_STUB: Final = re.compile(rb"extension_loaded\s*\(\s*['\"]([^'\"]{2,60})['\"]\s*\)", re.I)


def loader_of(data: bytes) -> str | None:
    """The loader that an encoded file asks for: a stub that looks for it, then data that nobody can read."""
    stub = _STUB.search(data[:4096])
    if stub is None or len(data) < 400:
        return None
    rest = data[max(stub.end(), min(len(data) // 2, 2048)) :]
    unreadable = len(rest[:8192].translate(None, _READABLE)) > len(rest[:8192]) * 0.1
    runs = re.findall(rb"[A-Za-z0-9+/=]{60,}", rest)
    encoded = sum(map(len, runs)) > len(rest) * 0.8
    return canonical_loader(stub[1]) if unreadable or encoded else None


def canonical_loader(name: bytes) -> str:
    """The name as PHP lists it."""
    return name.decode("latin-1").strip()
