"""What an extension file says of itself: for which PHP, thread-safety and processor it was built, and its name."""

import io
import re
import struct
from typing import Any, Final

import msgspec

MAX_BINARY: Final = 64 * 1024 * 1024
_BUILD: Final = re.compile(rb"API(\d?)(\d{8}),(NTS|TS)(,debug)?")
MACHINES: Final = {
    "amd64": "x64",
    "arm64": "AArch64",
    "i386": "x86",
    "armhf": "ARM",
    "ppc64el": "PowerPC",
    "riscv64": "RISC-V",
    "s390x": "S390",
}
"""Debian's architectures, as the ELF reader names the processor (up to its first blank)."""


class Binary(msgspec.Struct, frozen=True):
    """The identity of one extension file."""

    api: str
    """Module API number: ``20220829``."""
    thread_safe: bool
    debug: bool
    zend: bool
    """Whether it is a Zend extension, loaded with ``zend_extension=``."""
    machine: str
    name: str | None
    """The name PHP lists it under, where the file shows it."""


class NotAnExtension(Exception):
    """The file cannot be a PHP extension for this system; the message says what it is instead."""


def examine(data: bytes) -> Binary:
    """Read the identity out of an ELF shared object, without running it.

    Sources: ``ZEND_MODULE_BUILD_ID`` and ``ZEND_EXTENSION_BUILD_ID`` in PHP's headers.
    """
    from elftools.common.exceptions import ELFError  # noqa: PLC0415 — slow to import, seldom needed
    from elftools.elf.elffile import ELFFile  # noqa: PLC0415

    if data[:2] == b"MZ":
        raise NotAnExtension("is a Windows library")
    if data[:4] != b"\x7fELF":
        raise NotAnExtension("is no shared library")
    found = [(m[1] != b"", m[2].decode(), m[3] == b"TS", m[4] is not None) for m in _BUILD.finditer(data)]
    try:
        elf = ELFFile(io.BytesIO(data))
        machine = str(elf.get_machine_arch()).split()[0]
        symbols = _symbols(elf)
        zend = "zend_extension_entry" in symbols
        name = _name(elf, symbols, zend)
    except (
        ELFError,
        struct.error,
        ValueError,
        KeyError,
        AssertionError,
        IndexError,
        TypeError,
        AttributeError,
        UnicodeError,
    ) as error:
        raise NotAnExtension("is damaged: it cannot be read as a shared library") from error
    if not found:
        raise NotAnExtension("carries no PHP build identity")
    identity = next((entry for entry in found if entry[0] == zend), found[0])
    return Binary(identity[1], identity[2], identity[3], zend, machine, name)


def _symbols(elf: Any) -> dict[str, int]:
    section = elf.get_section_by_name(".dynsym")
    if section is None:
        return {}
    return {symbol.name: symbol["st_value"] for symbol in section.iter_symbols() if symbol["st_shndx"] != "SHN_UNDEF"}


def _name(elf: Any, symbols: dict[str, int], zend: bool) -> str | None:
    """Follow the relocation of the name field in ``zend_extension`` or ``zend_module_entry``."""
    from elftools.elf.relocation import RelocationSection  # noqa: PLC0415

    pointers: dict[int, int] = {}
    for section in elf.iter_sections():
        if isinstance(section, RelocationSection) and section.is_RELA():
            pointers |= {r["r_offset"]: r["r_addend"] for r in section.iter_relocations() if r["r_info_sym"] == 0}
    if zend:
        return _text_at(elf, pointers.get(symbols["zend_extension_entry"]))
    for section in elf.iter_sections():
        if section.name not in (".data", ".data.rel.ro", ".data.rel", ".data.rel.local"):
            continue
        data = section.data()
        for at in range(0, len(data) - 40, 8):
            # zend_module_entry: size 168, API number, debug, zts, then pointers; the name is the third of them.
            api = int.from_bytes(data[at + 4 : at + 8], "little")
            if data[at : at + 2] == b"\xa8\x00" and 20_100_000 < api < 21_000_000:
                name = _text_at(elf, pointers.get(section["sh_addr"] + at + 32))
                if name:
                    return name
    return None


def _text_at(elf: Any, address: int | None) -> str | None:
    if not address:
        return None
    for segment in elf.iter_segments():
        start = segment["p_vaddr"]
        if segment["p_type"] == "PT_LOAD" and start <= address < start + segment["p_filesz"]:
            raw = segment.data()[address - start :][:200].split(b"\0")[0]
            return "".join(c for c in raw.decode("utf-8", "replace") if c.isprintable()) or None
    return None


def misfit(binary: Binary, api: str, architecture: str) -> str | None:
    """Why this file cannot be loaded into a non-thread-safe PHP with that API number, on that architecture."""
    expected = MACHINES.get(architecture)
    if expected and not binary.machine.lower().startswith(expected.lower()):
        return f"is built for another processor ({binary.machine}; this server is {architecture})"
    if binary.api != api:
        from fundamentum.catalog import branch_of_api  # noqa: PLC0415

        other = branch_of_api(binary.api)
        return f"is built for PHP {other or 'API ' + binary.api}" + (
            f", not {branch_of_api(api)}" if branch_of_api(api) else ""
        )
    if binary.thread_safe:
        return "is built for a thread-safe PHP, and this one is not"
    if binary.debug:
        return "is built for a debug build of PHP"
    return None
