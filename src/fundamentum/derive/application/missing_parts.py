"""What is not in a tree, and has to be said: libraries that its manifest asks for; and of which application it is."""

import re
from collections.abc import Collection, Iterator
from pathlib import Path
from typing import Any, Final

import msgspec

from fundamentum.derive.application.tree import Tree
from fundamentum.untrusted.files import read_below

MAX_MANIFEST: Final = 1 << 20
_PLATFORM: Final = re.compile(r"(?:php(?:-.*)?|hhvm|(?:ext|lib|composer)-.*|composer|composer-.*-api)")
_ENTRIES: Final = ("index.php", "public/index.php", "web/index.php", "htdocs/index.php", "www/index.php")

MAX_SIDE_BY_SIDE: Final = 12
MAX_LOOKED: Final = 60
_LEADS_OUT: Final = re.compile(rb"\.\./|/\.\.|\bdirname\s*\(\s*(?:__DIR__|dirname)|DOCUMENT_ROOT", re.I)
"""How a file in a directory names what is beside that directory."""
_PARTS: Final = frozenset(
    "admin administrator ajax api app application apps assets backend bin cache classes cli client common "
    "components conf config content control controllers core cron css data ext extensions files frontend "
    "functions htdocs html images inc include includes install installer js lang lib libraries library libs media "
    "mobile modules pages panel plugins public rpc rss scripts server setup shared site sites skins src static "
    "system template templates themes tools update upgrade upload uploads user users util utils vendor web "
    "webroot widgets wwwroot www".split()
)
"""What directories are called that are a part of one application."""


def without_libraries(tree: Tree) -> Iterator[str]:
    """That the libraries which the manifest requires are neither there nor locked: nothing tells what they need."""
    above = f"{tree.base}/" if tree.base else ""
    names = set(tree.others)
    if f"{above}composer.json" not in names or f"{above}composer.lock" in names:
        return
    if any(name.startswith(f"{above}vendor/") for name in names) or (Path(tree.root) / above / "vendor").is_dir():
        return
    wanted = [name for name in _required(tree.root, f"{above}composer.json") if not _PLATFORM.fullmatch(name)]
    if wanted:
        number = "one library" if len(wanted) == 1 else f"{len(wanted)} libraries"
        yield (
            f"{above}composer.json requires {number}, and neither composer.lock nor vendor is here: what they need is "
            "not known. 'composer install --no-dev' in a copy brings them, or take the archive that its makers release"
        )


def _required(root: str, path: str) -> list[str]:
    try:
        document: Any = msgspec.json.decode(read_below(Path(root), path, MAX_MANIFEST).removeprefix(b"\xef\xbb\xbf"))
        required = document.get("require") if isinstance(document, dict) else None
        return [str(name).lower() for name in required] if isinstance(required, dict) else []
    except (OSError, ValueError, RecursionError):
        return []  # a broken manifest is remarked where it is read


def several(tree: Tree) -> list[str]:
    """The applications of a tree that holds more than one, each in a directory of its own.

    Each has a manifest and an entry; or each directory with source has an entry, and none has to do with another.
    """
    sources = {file.path for file in tree.sources}
    if "composer.json" in tree.others or any("/" not in path for path in sources):
        return []
    folders = sorted(
        {path.split("/")[0] for path in tree.others if path.count("/") == 1 and path.endswith("/composer.json")}
    )
    entered = [folder for folder in folders if any(f"{folder}/{entry}" in sources for entry in _ENTRIES)]
    return entered if len(entered) > 1 else _side_by_side(tree, sources)


def _side_by_side(tree: Tree, sources: Collection[str]) -> list[str]:
    """Directories with source that each have an entry, if none is called like a part, and none leads out of itself."""
    own = [file for file in tree.sources if file.part in ("own", "optional")]
    folders = sorted({file.path.split("/")[0] for file in own})
    entered = all(any(f"{folder}/{entry}" in sources for entry in _ENTRIES) for folder in folders)
    if (
        not 1 < len(folders) <= MAX_SIDE_BY_SIDE
        or not entered
        or tree.base
        or _PARTS.intersection(map(str.lower, folders))
    ):
        return []
    at_top = [file for file in own if file.path.count("/") == 1][:MAX_LOOKED]
    texts = (_text(tree.root, file.path) for file in at_top)
    return [] if any(_LEADS_OUT.search(text) for text in texts) else folders


def _text(root: str, path: str) -> bytes:
    try:
        return read_below(Path(root), path, MAX_MANIFEST)
    except (OSError, ValueError):
        return b"../"  # what it holds is not known
