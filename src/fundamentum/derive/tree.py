"""An application's files, and what part of the application each belongs to."""

from pathlib import Path

import msgspec

from fundamentum.derive.listing import Listing
from fundamentum.derive.walk import BUNDLED, Part, walk


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


def read_tree(root: Path) -> Tree:
    """Walk the directory; what is passed over is remarked."""
    return tree_of(Listing(str(root)))


def tree_of(listing: Listing) -> Tree:
    """What was listed, the application's own code told apart."""
    walked = walk(listing)
    sources, base = _based(tuple(SourceFile(*one) for one in walked.sources))
    if sources and all(file.part == "aside" for file in sources):
        sources = tuple(msgspec.structs.replace(file, part="own") for file in sources)
    return Tree(walked.root, sources, tuple(walked.others), tuple(walked.remarks), walked.stamp, base)


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
