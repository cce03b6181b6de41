"""Program files: ELF (Linux) and PE (Windows), opened without running them.

Only what is asked here is offered: the processor, the exported names, the data sections, and what pointers in them
point to.  The formats themselves are read by pyelftools and pefile.
"""

import io
import itertools
import struct
from collections.abc import Iterator
from typing import Any, Final

import msgspec

from fundamentum.lazy_regex import lazy_regex

MAX_SECTIONS: Final = 300
MAX_SYMBOLS: Final = 50_000
MAX_RELOCATIONS: Final = 400_000
"""Several times what the largest real program has: a file that claims more was made to keep its reader busy."""
PRINTABLE: Final = lazy_regex(rb"[\x20-\x7e\x80-\xff]{1,200}")
PROCESSORS: Final = {
    "EM_X86_64": "x86-64",
    "EM_386": "x86",
    "EM_AARCH64": "ARM64",
    "EM_ARM": "ARM",
    "EM_PPC64": "PowerPC 64",
    "EM_RISCV": "RISC-V",
    "EM_S390": "S390",
    "IMAGE_FILE_MACHINE_AMD64": "x86-64",
    "IMAGE_FILE_MACHINE_I386": "x86",
    "IMAGE_FILE_MACHINE_ARM64": "ARM64",
}
NUMBERS: Final = {
    62: "x86-64",
    3: "x86",
    183: "ARM64",
    40: "ARM",
    21: "PowerPC 64",
    243: "RISC-V",
    22: "S390",
}
"""The same by ELF's numbers (``elf.h``), for a look that is quicker than opening the file."""
ARCHITECTURES: Final = {
    "amd64": "x86-64",
    "x86_64": "x86-64",
    "i386": "x86",
    "i686": "x86",
    "arm64": "ARM64",
    "aarch64": "ARM64",
    "armhf": "ARM",
    "armv7l": "ARM",
    "ppc64el": "PowerPC 64",
    "ppc64le": "PowerPC 64",
    "riscv64": "RISC-V",
    "s390x": "S390",
}
"""What dpkg, rpm and the kernel call the same processors."""


class NoImage(Exception):
    """Not a program file, or a damaged one; the message continues "the file …"."""


class Image(msgspec.Struct):
    """One program or library."""

    system: str
    """``Linux`` or ``Windows``."""
    processor: str
    bits: int
    symbols: dict[str, int]
    """Exported names and their addresses."""
    sections: list[tuple[int, bytes]]
    """Address and content of every section that is loaded and holds something."""
    moved: dict[int, int]
    """Pointers the loader fills in: where they stand, and what they will hold."""

    def pointer(self, address: int) -> int | None:
        """What the pointer at this address points to."""
        if address in self.moved:
            return self.moved[address]
        raw = self.at(address, self.bits // 8)
        return int.from_bytes(raw, "little") or None if raw else None

    def text(self, address: int | None) -> str | None:
        """The text at an address, up to its end mark; None if there is none that could be shown."""
        raw = self.at(address, 200, short=True) if address else None
        words = raw.split(b"\0")[0] if raw else b""
        return words.decode("utf-8", "replace") if PRINTABLE.fullmatch(words) else None

    def at(self, address: int, size: int, *, short: bool = False) -> bytes | None:
        """The bytes at an address; None if they are not in the file."""
        for start, content in self.sections:
            if start <= address < start + len(content):
                section = content[address - start : address - start + size]
                return section if short or len(section) == size else None
        return None


def read_image(data: bytes) -> Image:
    """Open a program file; :class:`NoImage` if it is none."""
    if data[:4] == b"\x7fELF":
        return _elf(data)
    if data[:2] == b"MZ":
        return _pe(data)
    raise NoImage("is no shared library")


def processor_of(head: bytes) -> str:
    """The processor in the first twenty bytes of an ELF file.  Source: elf(5)."""
    return NUMBERS.get(int.from_bytes(head[18:20], "little" if head[5:6] == b"\1" else "big"), "")


def _elf(data: bytes) -> Image:
    from elftools.common.exceptions import ELFError  # noqa: PLC0415 — slow to import, seldom needed
    from elftools.elf.elffile import ELFFile  # noqa: PLC0415

    try:
        elf = ELFFile(io.BytesIO(data))
        sections = list(itertools.islice(elf.iter_sections(), MAX_SECTIONS))
        kept = [section for section in sections if section["sh_flags"] & 2 and section["sh_type"] != "SHT_NOBITS"]
        if sum(section["sh_size"] for section in sections if section["sh_type"] != "SHT_NOBITS") > len(data) + 65536:
            raise NoImage("is damaged: its sections are larger than itself")
        return Image(
            "Linux",
            PROCESSORS.get(str(elf["e_machine"]), str(elf["e_machine"])),
            elf.elfclass,
            _exported(elf),
            [(s["sh_addr"], s.data()) for s in kept],
            dict(itertools.islice(_relocated(elf, sections), MAX_RELOCATIONS)),
        )
    except (
        ELFError,
        struct.error,
        ValueError,
        KeyError,
        AssertionError,
        IndexError,
        TypeError,
        AttributeError,
        ArithmeticError,
        UnicodeError,
        MemoryError,
    ) as error:
        raise NoImage("is damaged: it cannot be read as a shared library") from error


def _exported(elf: Any) -> dict[str, int]:
    section = elf.get_section_by_name(".dynsym")
    if section is None:
        return {}
    symbols = itertools.islice(section.iter_symbols(), MAX_SYMBOLS)
    return {symbol.name: symbol["st_value"] for symbol in symbols if symbol["st_shndx"] != "SHN_UNDEF"}


def _relocated(elf: Any, sections: list[Any]) -> Iterator[tuple[int, int]]:
    """Relocations that do not depend on a symbol.  Unpacked at once: a PHP program has tens of thousands of them."""
    order = "<" if elf.little_endian else ">"
    for section in sections:
        if section["sh_type"] == "SHT_RELA" and elf.elfclass == 64:
            content = section.data()
            for offset, info, addend in struct.iter_unpack(f"{order}QQq", content[: len(content) // 24 * 24]):
                if info >> 32 == 0:
                    yield offset, addend


def _pe(data: bytes) -> Image:
    import pefile  # noqa: PLC0415 — slow to import, and for Windows only

    try:
        pe = pefile.PE(data=data, fast_load=True)
        pe.parse_data_directories(directories=[pefile.DIRECTORY_ENTRY["IMAGE_DIRECTORY_ENTRY_EXPORT"]])
        base = pe.OPTIONAL_HEADER.ImageBase
        if sum(section.SizeOfRawData for section in pe.sections) > len(data) + 65536:
            raise NoImage("is damaged: its sections are larger than itself")
        exports = getattr(pe, "DIRECTORY_ENTRY_EXPORT", None)
        return Image(
            "Windows",
            PROCESSORS.get(pefile.MACHINE_TYPE.get(pe.FILE_HEADER.Machine, ""), f"machine {pe.FILE_HEADER.Machine:#x}"),
            64 if pe.OPTIONAL_HEADER.Magic == 0x20B else 32,
            {e.name.decode("ascii", "replace"): base + e.address for e in exports.symbols if e.name} if exports else {},
            [(base + section.VirtualAddress, section.get_data()) for section in pe.sections],
            {},
        )
    except (
        pefile.PEFormatError,
        struct.error,
        ValueError,
        KeyError,
        IndexError,
        TypeError,
        AttributeError,
        MemoryError,
        ArithmeticError,
    ) as error:
        raise NoImage("is damaged: it cannot be read as a Windows library") from error
