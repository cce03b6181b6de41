"""An application's files, and what part of the application each belongs to.

Links are not followed: what they name within the tree is met there anyway, and what lies outside is none of the
application's.
"""

import hashlib
import os
import re
import stat
from pathlib import Path
from typing import Final, Literal

import msgspec

Part = Literal["own", "optional", "bundled", "aside"]
"""The application's own code; a part of it that is chosen (a driver, a plugin); a library that came with it; tests,
examples, documentation and tools for developers."""

MAX_FILES: Final = 200_000
MAX_DEPTH: Final = 40
MAX_SIZE: Final = 8 * 1024 * 1024
MAX_TOTAL: Final = 4 * 1024 * 1024 * 1024

_PHP: Final = frozenset(
    "php php3 php4 php5 php7 php8 phtml inc module install theme profile engine ctp class lib".split()
)
_NEVER: Final = frozenset({".git", ".svn", ".hg", "CVS", "node_modules"})
_ASIDE: Final = frozenset(
    "test tests testing unittest unittests unit-tests spec specs __tests__ fixture fixtures example "
    "examples sample samples demo demos doc docs documentation manual benchmark benchmarks stubs node_modules "
    "bower_components testsuite test-suite testdata mocks".split()
)
_DEVELOPMENT: Final = frozenset(
    "dev devel developer devtools dev-tools build-tools buildtools ci debian packaging".split()
)
BUNDLED: Final = frozenset(
    "vendor vendors vendor-bundle third_party third-party thirdparty 3rdparty 3rd_party external externals "
    "contrib".split()
)
_OPTIONAL: Final = frozenset(
    "plugin plugins addon addons add-ons driver drivers adapter adapters backend backends extra extras ext "
    "optional".split()
)
_ASIDE_FILE: Final = re.compile(
    r"(?:Test|TestCase|TestSuite|TestHelper|Spec)\.php$|^(?:test|tests)[._-]|[._-]tests?\.php$|\.phpt$|\.stubs?\.php$",
    0,
)
_LICENCE: Final = re.compile(r"(?:licen[cs]e|copying)(?:[._-].*)?", re.I)


class SourceFile(msgspec.Struct, frozen=True, gc=False):
    """One file that may hold PHP."""

    path: str
    """From the application's root, with ``/``."""
    size: int
    changed: int
    """Nanoseconds since 1970."""
    part: Part
    library: str = ""
    """For bundled code: the directory of the library."""


class Tree(msgspec.Struct, frozen=True):
    """What an application's directory holds."""

    root: str
    sources: tuple[SourceFile, ...]
    others: tuple[str, ...]
    """Paths of manifests and settings files."""
    remarks: tuple[str, ...]
    stamp: str
    """Changes when a file comes, goes or is written."""
    base: str = ""
    """The directory below the root where the application itself begins, and its manifest lies."""


_OTHERS: Final = re.compile(
    r"^(?:composer\.(?:json|lock)|package2?\.xml|installed\.json|\.user\.ini|\.htaccess|.*php\.ini.*|php.*\.ini|"
    r"[\w.-]*\.htaccess[\w.-]*|htaccess[\w.-]*)$",
    re.I,
)


def read_tree(root: Path) -> Tree:
    """Walk the directory; what is passed over is remarked."""
    walk = _Walk(os.path.realpath(root))
    sources, base = _based(tuple(walk.sources()))
    if sources and all(file.part == "aside" for file in sources):
        sources = tuple(msgspec.structs.replace(file, part="own") for file in sources)
    if walk.links:
        walk.remarks.append(f"{walk.links} links are not followed")
    if walk.huge:
        walk.remarks.append(
            f"{walk.huge[0]} and {len(walk.huge) - 1} more are larger than {MAX_SIZE >> 20} MiB: passed over"
            if len(walk.huge) > 1
            else f"{walk.huge[0]} is larger than {MAX_SIZE >> 20} MiB: passed over"
        )
    stamps = [*((file.path, file.size, file.changed) for file in sources), *walk.stamps]
    stamp = hashlib.blake2b(
        msgspec.msgpack.encode([(os.fsencode(path), *rest) for path, *rest in stamps]), digest_size=16
    )
    return Tree(walk.root, sources, tuple(walk.others), tuple(walk.remarks), stamp.hexdigest(), base)


def _based(sources: tuple[SourceFile, ...]) -> tuple[tuple[SourceFile, ...], str]:
    """Where most of a tree lies in one "library" below its root, that is the application itself."""
    sizes: dict[str, int] = {}
    for file in sources:
        if file.part != "aside":
            sizes[file.library] = sizes.get(file.library, 0) + file.size
    own = [name for name in sizes if name and not BUNDLED.intersection(name.lower().split("/"))]
    base = max(own, key=lambda library: sizes[library], default="")
    if not base or sizes[base] <= 10 * sizes.get("", 0):
        return sources, ""
    return tuple(
        msgspec.structs.replace(file, part="own", library="")
        if file.library == base and file.part == "bundled"
        else file
        for file in sources
    ), base


class _Walk:
    def __init__(self, root: str) -> None:
        self.root = root
        self.others: list[str] = []
        self.stamps: list[tuple[str, int, int]] = []
        self.remarks: list[str] = []
        self.huge: list[str] = []
        self.links = 0
        self.found: list[SourceFile] = []
        self.full = False
        self.count = 0
        self.total = 0

    def sources(self) -> list[SourceFile]:
        """Every file that may hold PHP."""
        self._below(self.root, "", "own", "", 0)
        return self.found

    def _below(self, directory: str, path: str, part: Part, library: str, depth: int) -> None:
        try:
            with os.scandir(directory) as listing:
                entries = sorted(listing, key=lambda entry: entry.name)
        except OSError as error:
            self.remarks.append(f"{path or '.'} cannot be read: {error.strerror}")
            return
        if path and part != "aside" and path != library and _is_library([entry.name for entry in entries]):
            part, library = "bundled", path
        above = f"{path}/" if path else ""
        for entry in entries:
            name = entry.name
            if entry.is_symlink():
                self.links += 1
            elif not entry.is_dir(follow_symlinks=False):
                _, dot, suffix = name.rpartition(".")
                if (not dot and depth < 4) or suffix.lower() in _PHP or _OTHERS.match(name):
                    self._file(entry, above + name, part, library)
            elif name not in _NEVER:
                if depth >= MAX_DEPTH:
                    self.remarks.append(f"{above}{name} is nested too deeply: passed over")
                    continue
                here = above + name
                self._below(entry.path, here, *_part_of(name.lower(), here, part, library), depth + 1)

    def _file(self, entry: "os.DirEntry[str]", here: str, part: Part, library: str) -> None:
        name = entry.name
        try:
            status = entry.stat(follow_symlinks=False)
        except OSError as error:
            self.remarks.append(f"{here} cannot be read: {error.strerror}")
            return
        if not stat.S_ISREG(status.st_mode):
            return
        if _OTHERS.match(name):
            self.others.append(here)
            self.stamps.append((here, status.st_size, status.st_mtime_ns))
            return
        if status.st_size > MAX_SIZE:
            self.huge.append(here)
            return
        if "." not in name and not self._starts_as_php(entry.path):
            return
        self.count += 1
        self.total += status.st_size
        if self.count > MAX_FILES or self.total > MAX_TOTAL:
            if not self.full:
                self.full = True
                self.remarks.append("the tree is larger than any application: only its first part was read")
            return
        if part != "aside" and (_ASIDE_FILE.search(name) or name.startswith(".")):
            part = "aside"
        self.found.append(SourceFile(here, status.st_size, status.st_mtime_ns, part, library))

    def _starts_as_php(self, path: str) -> bool:
        try:
            with open(path, "rb") as stream:
                head = stream.read(64)
        except OSError:
            return False
        return head.startswith(b"<?php") or (head.startswith(b"#!") and b"php" in head.split(b"\n", 1)[0])


def _is_library(names: list[str]) -> bool:
    """A directory below the root with a licence and a manifest or version file of its own is somebody else's work."""
    if "composer.json" in names or "package.xml" in names:
        return True
    return any(_LICENCE.fullmatch(name) for name in names) and any(name.lower().endswith(".php") for name in names)


def _part_of(name: str, here: str, part: Part, library: str) -> tuple[Part, str]:
    if part == "aside" or name in _ASIDE or name in _DEVELOPMENT:
        return "aside", library
    if name in BUNDLED:
        return "bundled", here
    above = [part.lower() for part in library.split("/")]
    if part == "bundled" and BUNDLED.intersection(above[-2:]) and here.count("/") == library.count("/") + 1:
        return "bundled", here  # vendor/maker/library
    if name in _OPTIONAL and part == "own":
        return "optional", library
    return part, library
