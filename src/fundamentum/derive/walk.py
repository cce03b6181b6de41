"""Going through an application's directory: which files there are, and what part of the application each belongs to.

It uses nothing but the standard library, and little of that: an unchanged tree is recognised by this walk alone.
Links are not followed: what they name within the tree is met there anyway, and what lies outside is none of the
application's.
"""

import hashlib
import operator
import os
import re
from typing import Final, Literal, NamedTuple

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


_OTHERS: Final = re.compile(
    r"^(?:composer\.(?:json|lock)|package2?\.xml|installed\.json|\.user\.ini|\.htaccess|.*php\.ini.*|php.*\.ini|"
    r"[\w.-]*\.htaccess[\w.-]*|htaccess[\w.-]*)$",
    re.I,
)


_NAME: Final = operator.attrgetter("name")


class Walked(NamedTuple):
    """What an application's directory holds, as it was met."""

    root: str
    sources: list[tuple[str, int, int, Part, str]]
    """Path, size, time of change in nanoseconds, part, and for bundled code the directory of the library."""
    others: list[str]
    """Paths of manifests and settings files."""
    remarks: list[str]
    stamp: str
    """Changes when a file comes, goes or is written."""


def walk(root: str) -> Walked:
    """Walk the directory; what is passed over is remarked."""
    found = _Walk(os.path.realpath(root))
    found.below(found.root, "", "own", "", 0)
    if found.links:
        found.remarks.append(f"{found.links} links are not followed")
    if found.huge:
        found.remarks.append(
            f"{found.huge[0]} and {len(found.huge) - 1} more are larger than {MAX_SIZE >> 20} MiB: passed over"
            if len(found.huge) > 1
            else f"{found.huge[0]} is larger than {MAX_SIZE >> 20} MiB: passed over"
        )
    marks = [f"{path}\0{size}\0{changed}" for path, size, changed, *_ in (*found.found, *found.stamps)]
    stamp = hashlib.blake2b("\0".join(marks).encode("utf-8", "surrogateescape"), digest_size=16).hexdigest()
    return Walked(found.root, found.found, found.others, found.remarks, stamp)


class _Walk:
    def __init__(self, root: str) -> None:
        self.root = root
        self.others: list[str] = []
        self.stamps: list[tuple[str, int, int]] = []
        self.remarks: list[str] = []
        self.huge: list[str] = []
        self.links = 0
        self.found: list[tuple[str, int, int, Part, str]] = []
        self.full = False
        self.total = 0

    def below(self, directory: str, path: str, part: Part, library: str, depth: int) -> None:
        """Everything in a directory, in order of names."""
        try:
            with os.scandir(directory) as listing:
                entries = sorted(listing, key=_NAME)
        except OSError as error:
            self.remarks.append(f"{path or '.'} cannot be read: {error.strerror}")
            return
        if path and part != "aside" and path != library and _is_library([entry.name for entry in entries]):
            part, library = "bundled", path
        above = f"{path}/" if path else ""
        for entry in entries:
            name = entry.name
            if entry.is_file(follow_symlinks=False):
                if name.endswith(".php"):
                    self._file(name, entry, above + name, part, library, False)
                    continue
                _, dot, suffix = name.rpartition(".")
                other = _OTHERS.match(name) is not None
                if other or (suffix.lower() in _PHP if dot else depth < 4):
                    self._file(name, entry, above + name, part, library, other)
            elif entry.is_symlink():
                self.links += 1
            elif not entry.is_dir(follow_symlinks=False):
                continue
            elif name not in _NEVER:
                if depth >= MAX_DEPTH:
                    self.remarks.append(f"{above}{name} is nested too deeply: passed over")
                    continue
                here = above + name
                self.below(entry.path, here, *_part_of(name.lower(), here, part, library), depth + 1)

    def _file(self, name: str, entry: "os.DirEntry[str]", here: str, part: Part, library: str, other: bool) -> None:
        try:
            status = entry.stat(follow_symlinks=False)
        except OSError as error:
            self.remarks.append(f"{here} cannot be read: {error.strerror}")
            return
        size = status.st_size
        if other:
            self.others.append(here)
            self.stamps.append((here, size, status.st_mtime_ns))
            return
        if size > MAX_SIZE:
            self.huge.append(here)
            return
        if "." not in name and not self._starts_as_php(entry.path):
            return
        self.total += size
        if len(self.found) >= MAX_FILES or self.total > MAX_TOTAL:
            if not self.full:
                self.full = True
                self.remarks.append("the tree is larger than any application: only its first part was read")
            return
        if part != "aside" and (_ASIDE_FILE.search(name) or name[0] == "."):
            part = "aside"
        self.found.append((here, size, status.st_mtime_ns, part, library))

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
    likely = [name for name in names if name[0] in "lLcC"]
    return any(_LICENCE.fullmatch(name) for name in likely) and any(name.lower().endswith(".php") for name in names)


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
