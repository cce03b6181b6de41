"""What extension files and programs of PHP say of themselves.  tests/real builds and opens real ones."""

import struct

import pytest
from msgspec.structs import replace

from fundamentum.model.installation import Build
from fundamentum.php_files.executables import Image, NoImage, processor_of, read_image
from fundamentum.php_files.php_binaries import (
    MODULE_ENTRY,
    Binary,
    NotAnExtension,
    _modules,
    examine,
    fits,
    misfit,
    version_of,
)

OURS = Build("20220829", False, False, "x86-64", "Linux", "")
GD = Binary(OURS, False, 64, "gd")
MISFITS = [  # the file's build, words
    ({}, None),
    ({"system": "Windows"}, "is a Windows library"),
    ({"processor": "aarch64"}, "another processor (aarch64, 64 bits; this PHP is x86-64)"),
    ({"api": "20230831"}, "is built for PHP 8.3, not 8.2"),
    ({"api": "20991231"}, "is built for PHP API 20991231, not 8.2"),
    ({"thread_safe": True}, "is built for a thread-safe PHP, and this one is non-thread-safe"),
    ({"debug": True}, "is built for a debug build of PHP, and this one is a release build"),
]


@pytest.mark.parametrize(("build", "words"), MISFITS)
def test_what_does_not_fit(build: dict[str, object], words: str | None) -> None:
    found = misfit(replace(GD, build=replace(OURS, **build)), OURS)
    assert found == words if words is None else words in (found or "")
    if "thread_safe" in build or "debug" in build:
        other = misfit(GD, replace(OURS, **build))
        assert other and other != found


def elf(sections: list[tuple[bytes, int, int, bytes]]) -> bytes:
    """A shared library of 64 bits with these sections: name, type, address, content; address 0 is not loaded."""
    names = b"\0" + b"".join(name + b"\0" for name, *_ in sections) + b".shstrtab\0"
    body, headers = b"", struct.pack("<IIQQQQIIQQ", *([0] * 10))
    for name, kind, address, content in [*sections, (b".shstrtab", 3, 0, names)]:
        at = 64 + len(body)
        entry = 24 if kind == 4 else 0
        headers += struct.pack(
            "<IIQQQQIIQQ",
            names.index(name + b"\0"),
            kind,
            2 if address else 0,
            address,
            at,
            len(content),
            0,
            0,
            8,
            entry,
        )
        body += content
    head = b"\x7fELF\2\1\1" + bytes(9)
    head += struct.pack(
        "<HHIQQQIHHHHHH", 3, 62, 1, 0, 0, 64 + len(body), 0, 64, 0, 0, 64, len(sections) + 2, len(sections) + 1
    )
    return head + body + headers


def module(name: bytes, requires: bytes, build: bytes) -> bytes:
    """An extension: its entry at 0x1000, texts at 0x2000, what it requires at 0x3000."""
    size, name_at = MODULE_ENTRY[64]
    entry = bytearray(size)
    struct.pack_into("<HxxIBB", entry, 0, size, 20220829, 0, 0)
    texts = name + b"\0" + requires + b"\0" + b"\0" + build + b"\0"
    moves = [(0x1000 + name_at, 0x2000), (0x1000 + name_at - 8, 0x3000), (0x3000, 0x2000 + len(name) + 1)]
    table = bytes(24) + b"\1" + bytes(7) + bytes(32)
    relocations = b"".join(struct.pack("<QQq", at, 8, to) for at, to in moves)
    return elf(
        [
            (b".data", 1, 0x1000, bytes(entry)),
            (b".rodata", 1, 0x2000, texts),
            (b".table", 1, 0x3000, table),
            (b".rela", 4, 0x4000, relocations),
        ]
    )


def test_an_extension_tells_its_name_its_build_and_what_it_requires() -> None:
    data = module(b"star", b"dom", b"API20220829,NTS")
    binary = examine(data)
    assert (binary.name, binary.requires, binary.zend, binary.bits) == ("star", ("dom",), False, 64)
    assert (binary.build.api, binary.build.thread_safe, binary.build.processor, binary.build.system) == (
        "20220829",
        False,
        "x86-64",
        "Linux",
    )
    assert misfit(binary, OURS) is None and fits(data, OURS)
    assert not fits(data, replace(OURS, thread_safe=True)) and not fits(data, replace(OURS, processor="aarch64"))
    assert not fits(data, replace(OURS, system="Windows")) and not fits(b"MZ" + data[2:], OURS)
    debug = examine(module(b"star", b"dom", b"API20220829,TS,debug"))
    assert (debug.build.thread_safe, debug.build.debug) == (True, True)
    assert processor_of(data[:20]) == "x86-64"


def test_a_table_that_looks_like_one_by_chance_is_none() -> None:
    size, _ = MODULE_ENTRY[64]
    by_chance = size.to_bytes(2, "little") + bytes(size - 2)
    image = Image("Linux", "x86-64", 64, {}, [(0x1000, by_chance), (0x1004, by_chance)], {})
    assert list(_modules(image)) == []
    assert (image.pointer(0x9000), image.text(None), image.at(0x1000, 10_000)) == (None, None, None)
    assert image.at(0x1000, 10_000, short=True) == by_chance


@pytest.mark.parametrize(
    ("data", "words"),
    [(b"MZ", "is damaged"), (b"#!/bin/sh", "is no shared library"), (elf([(b".x", 1, 0x1000, b"x")])[:100], "is damaged"),
     (elf([(b".x", 1, 0x1000, b"x")]), "carries no PHP build identity")],
)  # fmt: skip
def test_what_is_no_extension(data: bytes, words: str) -> None:
    with pytest.raises(NotAnExtension, match=words):
        examine(data)


def test_sections_larger_than_the_file_are_not_read() -> None:
    data = elf([(b".x", 1, 0x1000, b"x")])
    at = int.from_bytes(data[40:48], "little") + 64 + 32
    with pytest.raises(NoImage, match="larger than itself"):
        read_image(data[:at] + (2**30).to_bytes(8, "little") + data[at + 8 :])


def test_the_version_that_a_program_sends() -> None:
    assert version_of(b"xX-Powered-By: PHP/8.2.9-1+deb12u1\0") == "8.2.9-1+deb12u1"
    assert (version_of(b"X-Powered-By: PHP/\0"), version_of(b"")) == (None, None)
