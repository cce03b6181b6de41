"""Going through an application's directory: which files hold PHP, and what part of the application each belongs to."""

import os
import re
from typing import Final

import msgspec

from fundamentum.derive.application.listing import OTHER, SOURCE, Directory, Listing
from fundamentum.derive.application.tree import Part, SourceFile, Tree
from fundamentum.untrusted.files import UNFOLLOWED

MAX_SIZE: Final = 8 * 1024 * 1024
MAX_TOTAL: Final = 256 * 1024 * 1024
"""Bytes of code: the largest applications have a fifth of that."""
_HEAD_OF_TEST: Final = 64 * 1024

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
    "plugin plugins addon addons add-ons additions driver drivers adapter adapters backend backends extra extras ext "
    "optional experimental experiments".split()
)
_DIAGNOSING: Final = re.compile(r"diagnos|requirement|health|sanity|preflight|self-?_?(?:test|check)|system-?_?check")
"""Names of plug-ins that look at the server for the whole application."""
_GENERATED: Final = re.compile(
    r"(?:^|/)(?:templates?_c|tmp|temp|(?:var|app|data|bootstrap)/cache|storage/framework)$", re.I
)
"""Directories that the application itself writes PHP into: what stands there says nothing that its source does not."""
_ASIDE_FILE: Final = re.compile(r"^(?:test|tests)[._-]|[._-]tests?\.php$|\.phpt$|\.stubs?\.php$")
_NAMED_A_TEST: Final = re.compile(r"(?:Test|TestCase|TestSuite|TestHelper|Spec)\.php$")
_WRITTEN_AS_TEST: Final = re.compile(rb"TestCase|PHPUnit|phpspec|->assert\w|Assert::|->should\w|extends \w*Test\b")
"""What a test of the code has: `ConfigurationTest.php` without any of it may well be what asks the server."""
_DEFINES: Final = re.compile(
    rb"^\s*(?:<\?php\s+)?(?:(?:final|abstract|readonly)\s+)*(?:class|trait|interface|enum)\s+\w", re.M | re.I
)
_INSTALLERS: Final = frozenset("install installer installation setup upgrade".split())
_TESTS_OF_A_SERVER: Final = frozenset({"test", "tests"})


def tree_of(listing: Listing) -> Tree:
    """What was listed, the application's own code told apart; what is passed over is remarked."""
    walk = _Walk(listing)
    walk.below(listing.top, "own", "")
    remarks = list(listing.remarks)
    unread = ""
    if listing.full or walk.full:
        unread = "the tree is larger than any application: only its first part was read"
        remarks.append(f"{unread}, needs may be missing")
    if listing.links:
        remarks.append(f"{listing.links} links are not followed")
    if walk.huge:
        remarks.append(
            f"{walk.huge[0]} and {len(walk.huge) - 1} more are larger than {MAX_SIZE >> 20} MiB: passed over"
            if len(walk.huge) > 1
            else f"{walk.huge[0]} is larger than {MAX_SIZE >> 20} MiB: passed over"
        )
    sources, base = _based(tuple(walk.found))
    if sources and all(file.part == "aside" for file in sources):
        sources = tuple(msgspec.structs.replace(file, part="own") for file in sources)
    return Tree(listing.root, sources, tuple(walk.others), tuple(remarks), base, unread)


class _Walk:
    def __init__(self, listing: Listing) -> None:
        self.root = listing.root
        self.others: list[str] = []
        self.huge: list[str] = []
        self.found: list[SourceFile] = []
        self.full = False
        self.total = 0

    def below(self, directory: Directory, part: Part, library: str) -> None:
        """Everything in a directory."""
        path = directory.path
        if directory.library and path and part != "aside" and path != library:
            part, library = "bundled", path
        above = f"{path}/" if path else ""
        for name, kind, size, _ in directory.files:
            if kind == OTHER:
                self.others.append(above + name)
            elif kind == SOURCE:
                self._source(name, above + name, size, part, library)
        for below in directory.below:
            self.below(below, *_part_of(below.path.rpartition("/")[2].lower(), below.path, part, library))

    def _source(self, name: str, here: str, size: int, part: Part, library: str) -> None:
        if size > MAX_SIZE:
            self.huge.append(here)
            return
        if "." not in name and not self._starts_as_php(here):
            return
        if self.total + size > MAX_TOTAL:
            self.full = True
            return
        self.total += size
        of_code = _ASIDE_FILE.search(name) and not ("test" in name and _of_installer(here))
        if part != "aside" and (of_code or name[0] == "." or self._tests_code(name, here)):
            part = "aside"
        self.found.append(SourceFile(here, size, part, library))

    def _tests_code(self, name: str, path: str) -> bool:
        if not _NAMED_A_TEST.search(name):
            return False
        start = self._start(path, _HEAD_OF_TEST)
        return _WRITTEN_AS_TEST.search(start) is not None or _DEFINES.search(start) is None

    def _starts_as_php(self, path: str) -> bool:
        head = self._start(path, 64)
        return head.startswith(b"<?php") or (head.startswith(b"#!") and b"php" in head.split(b"\n", 1)[0])

    def _start(self, path: str, size: int) -> bytes:
        """The first bytes of a file; none where it cannot be read."""
        try:
            handle = os.open(f"{self.root}/{path}", UNFOLLOWED)
        except OSError:
            return b""
        try:
            return os.read(handle, size)
        except OSError:
            return b""
        finally:
            os.close(handle)


def _of_installer(directory: str) -> bool:
    """Whether a directory is an installer's, or below one: its tests look at the server, not at the code."""
    return not _INSTALLERS.isdisjoint(directory.lower().split("/"))


def _part_of(name: str, here: str, part: Part, library: str) -> tuple[Part, str]:
    of_namespace = "/" in here and here.rpartition("/")[2][0].isupper()  # src/Dev holds classes as src/Core does
    looks_at_server = name in _TESTS_OF_A_SERVER and _of_installer(here)
    if (
        part == "aside"
        or (name in _ASIDE and not looks_at_server)
        or (name in _DEVELOPMENT and not of_namespace)
        or _GENERATED.search(here)
    ):
        return "aside", library
    if name in BUNDLED:
        return "bundled", here
    above = [part.lower() for part in library.split("/")]
    if part == "bundled" and BUNDLED.intersection(above[-2:]) and here.count("/") == library.count("/") + 1:
        return "bundled", here  # vendor/maker/library
    if name in _OPTIONAL and part == "own":
        return "optional", library
    if part == "optional" and _DIAGNOSING.search(name) and here.split("/")[-2].lower() in _OPTIONAL:
        return "own", library
    return part, library


AROUND: Final = 20
"""How many times larger than an application what lies in it may be."""


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
    # An application may well be smaller than the framework that lies in it.
    around = (name for name in sorted(own, key=len) if base.startswith(f"{name}/"))
    base = next((name for name in around if sizes[name] * AROUND >= sizes[base]), base)
    return tuple(
        msgspec.structs.replace(file, part="own", library="")
        if file.library == base and file.part == "bundled"
        else file
        for file in sources
    ), base
