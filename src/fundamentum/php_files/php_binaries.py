"""What PHP's own files say of themselves: for which PHP, thread-safety and processor they were built, and what is in
them."""

import itertools
import mmap
import re
import struct
from collections.abc import Iterator
from typing import Final

import msgspec

from fundamentum.catalog import branch_of_api
from fundamentum.hosts.base import Host
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.installation import Build
from fundamentum.php_files.executables import ARCHITECTURES, Image, NoImage, processor_of, read_image

MAX_BINARY: Final = 64 * 1024 * 1024
MAX_PLACES: Final = 200_000
"""Places in one file that are looked at for what it brings: a real one has a few thousand that may be one."""
_BUILD: Final = lazy_regex(rb"API(\d?)(\d{8}),(NTS|TS)(,debug)?(?:,(V[CS]\d+))?")
_SIGN: Final = b"X-Powered-By: PHP/"
_VERSION: Final = lazy_regex(rb"([0-9][0-9A-Za-z.+~-]{0,40})\0")
_FIRST: Final = lazy_regex(rb"(?i)\b(?:must|has to|should|needs to) (?:be|appear|come|stand)[^\0]{0,40}\bfirst\b")
"""How loaders that refuse to come second say so, in the message that they would print."""
_CONFIGURE: Final = lazy_regex(rb"'?\./configure'?((?: +'[^'\0\n]{1,400}'){1,400})")
_OPTION: Final = lazy_regex(r"'--([a-z0-9-]+)(?:=([^']*))?'")
_EXTENSION_DIR: Final = lazy_regex(rb"/[^\0\n]{1,200}?/(?:no-debug|debug)-(?:non-)?zts-\d{8}(?=\0)")
_LIBRARY: Final = lazy_regex(rb"\0(lib[A-Za-z0-9_.+-]{1,60}\.so(?:\.[0-9]{1,4}){0,4})(?=\0)")
MODULE_ENTRY: Final = {64: (168, 32), 32: (92, 20)}
"""Size of ``zend_module_entry``, and where in it the pointer to the name stands, by bits."""


class Binary(msgspec.Struct, frozen=True):
    """The identity of one extension file."""

    build: Build
    zend: bool
    """Whether it is a Zend extension, loaded with ``zend_extension=``."""
    bits: int
    name: str | None
    """The name PHP lists it under, where the file shows it."""
    version: str = ""
    """Its own version."""
    requires: tuple[str, ...] = ()
    """The extensions without which it refuses to start, as its ``zend_module_dep`` table says."""
    first: bool = False
    """Whether it says that it has to be the first Zend extension."""


class Program(msgspec.Struct, frozen=True):
    """What a program or library that is PHP itself says."""

    version: str | None
    build: Build | None
    options: dict[str, str] = {}
    """The options it was configured with, such as ``prefix``."""
    extension_dir: str | None = None
    inside: tuple[str, ...] | None = None
    """The extensions compiled into it.  None: it cannot be told."""


NO_IDENTITY: Final = "carries no PHP build identity"


class NotAnExtension(Exception):
    """The file cannot be a PHP extension; the message says what it is instead, and continues "the file …"."""


def examine(data: bytes) -> Binary:
    """Read the identity out of an extension file, without running it.

    Sources: ``ZEND_MODULE_BUILD_ID`` and ``ZEND_EXTENSION_BUILD_ID`` in PHP's headers.
    """
    try:
        image = read_image(data)
    except NoImage as error:
        raise NotAnExtension(str(error)) from error
    builds = [(m[1] != b"", m) for m in itertools.islice(_BUILD.finditer(data), 1000)]
    if not builds:
        raise NotAnExtension(NO_IDENTITY)
    zend = "zend_extension_entry" in image.symbols
    identity = next((match for kind, match in builds if kind == zend), builds[0][1])
    modules = [] if zend else list(_modules(image))
    name, version, requires = next(iter(modules), (None, "", ()))
    if zend:
        name = image.text(image.pointer(image.symbols["zend_extension_entry"]))
    first = zend and _FIRST.search(data) is not None
    return Binary(_build(identity, image), zend, image.bits, name, version, requires, first)


def linked(data: "bytes | mmap.mmap") -> tuple[str, ...]:
    """The names of shared libraries in a file."""
    return tuple(dict.fromkeys(match[1].decode() for match in itertools.islice(_LIBRARY.finditer(data), 500)))


def fits(data: "bytes | mmap.mmap", php: Build) -> bool:
    """Whether this is clearly an extension file for that PHP, at a glance: a quick yes, or have it examined."""
    identity = f"API{php.api},{'TS' if php.thread_safe else 'NTS'}{',debug' if php.debug else ''}\0".encode()
    if data[:4] != b"\x7fELF" or php.system != "Linux" or (php.processor and processor_of(data[:20]) != php.processor):
        return False
    zend_identity = identity.replace(b"API", b"API" + zend_digit(php.api))
    return data.find(b"\0" + identity) >= 0 or data.find(zend_identity) >= 0


def _build(identity: re.Match[bytes], image: Image | None) -> Build:
    return Build(
        identity[2].decode(),
        identity[3] == b"TS",
        identity[4] is not None,
        image.processor if image else "",
        image.system if image else "Linux",
        (identity[5] or b"").decode(),
    )


def _modules(image: Image) -> Iterator[tuple[str, str, tuple[str, ...]]]:
    """Every ``zend_module_entry``, its name, version and what it requires: its size, an API number, and two flags in
    front of pointers (ini entries, dependencies, name, and seven more, of which the last is the version)."""
    size, name_at = MODULE_ENTRY[image.bits]
    sign = size.to_bytes(2, "little")
    step = image.bits // 8
    left = MAX_PLACES
    for start, content in image.sections:
        at = content.find(sign)
        while 0 <= at <= len(content) - size and left > 0:
            left -= 1
            api, debug, zts = struct.unpack_from("<IBB", content, at + 4)
            if (start + at) % step == 0 and 20_100_000 < api < 21_000_000 and debug < 2 and zts < 2:
                name = image.text(image.pointer(start + at + name_at))
                if name:
                    version = image.text(image.pointer(start + at + name_at + 7 * step))
                    yield name, version or "", tuple(_required(image, image.pointer(start + at + name_at - step)))
            at = content.find(sign, at + 1)


def _required(image: Image, table: int | None) -> Iterator[str]:
    """The names in a ``zend_module_dep`` table: three pointers and a type, 1 for what is required."""
    step = image.bits // 8
    for row in range(table, table + 100 * 4 * step, 4 * step) if table else ():
        name = image.text(image.pointer(row))
        if name is None:
            return
        if image.at(row + 3 * step, 1) == b"\1":
            yield name


def version_of(data: "bytes | mmap.mmap") -> str | None:
    """The version inside a PHP program, which it also sends as ``X-Powered-By``."""
    at = data.rfind(_SIGN)  # it stands near the end: most of the file need not be touched
    match = _VERSION.match(data, at + len(_SIGN)) if at >= 0 else None
    return match[1].decode() if match else None


def program(data: bytes) -> Program:
    """Everything a PHP program says of itself, its compiled-in extensions included."""
    try:
        image = read_image(data)
    except NoImage:
        image = None
    # Extension identities with a digit in front are those of Zend extensions, and of libraries that look for them.
    identity = next((match for match in _BUILD.finditer(data) if not match[1]), None)
    configured = _CONFIGURE.search(data)
    directory = _EXTENSION_DIR.search(data)
    inside = tuple(dict.fromkeys(n for n, _, _ in _modules(image) if n != "cli_server")) if image else ()
    return Program(
        version_of(data),
        _build(identity, image) if identity else None,
        dict(_OPTION.findall(configured[1].decode("utf-8", "replace"))) if configured else {},
        directory[0].decode("utf-8", "replace") if directory else None,
        inside or None,
    )


def misfit(binary: Binary, php: Build) -> str | None:
    """Why this file cannot be loaded into that PHP; continues "the file …"."""
    build = binary.build
    if build.system != php.system:
        return f"is a {build.system} library"
    if php.processor and build.processor != php.processor:
        return f"is built for another processor ({build.processor}, {binary.bits} bits; this PHP is {php.processor})"
    if build.api != php.api:
        this, other = branch_of_api(php.api), branch_of_api(build.api)
        return f"is built for PHP {other or 'API ' + build.api}" + (f", not {this}" if this else "")
    if build.thread_safe != php.thread_safe:
        ours, theirs = ("thread-safe", "non-thread-safe") if build.thread_safe else ("non-thread-safe", "thread-safe")
        return f"is built for a {ours} PHP, and this one is {theirs}"
    if build.debug != php.debug:
        ours, theirs = ("debug", "release") if build.debug else ("release", "debug")
        return f"is built for a {ours} build of PHP, and this one is a {theirs} build"
    if php.compiler and build.compiler and build.compiler != php.compiler:
        return f"is built with another compiler ({build.compiler}; this PHP with {php.compiler})"
    return None


def zend_digit(api: str) -> bytes:
    """The digit in front of a Zend extension's API number: 2 in PHP 5, 3 in 7, 4 in 8."""
    return b"4" if api >= "20200930" else b"3" if api >= "20151012" else b"2"


def for_architecture(api: str, architecture: str) -> Build:
    """What a Linux distribution's ordinary PHP asks: not thread-safe, no debug build."""
    return Build(api, processor=ARCHITECTURES.get(architecture, ""))


def read_program(host: Host, path: str) -> Program | None:
    """What the program at this path says of itself; None if there is no program."""
    data = host.read(path, MAX_BINARY)
    return program(data) if data and data[:4] == b"\x7fELF" else None
