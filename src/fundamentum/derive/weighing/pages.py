"""Pages that a visitor asks for by themselves: what one of many ends for is needed for that page alone."""

import re
from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from typing import Final

from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.php_source.facts import Check, FileFacts
from fundamentum.derive.statements.requirement_names import looks_at_requirements

FIRST: Final = re.compile(r"(?:index|install(?:er)?|setup|bootstrap|init|main|requirements?|check\w*)\.php$", re.I)
"""How files are called with which a page begins."""
_OF_PAGES: Final = re.compile(r"(?:^|/)(?:pages?|api|ajax|actions?|(?:web)?hooks?|endpoints?|exports?|reports?)$", re.I)
"""How directories are called that hold pages."""
FEW: Final = 2
"""Files of a directory from which on they may be pages beside each other."""


def pages_that_end(
    facts: Mapping[str, FileFacts],
    files: Mapping[str, SourceFile],
    is_script: Callable[[str], bool],
    included: Callable[[Iterable[str]], frozenset[str]],
) -> frozenset[tuple[str, str]]:
    """Files of which each is a page among others, with the extension without which it ends.

    ``facts``: what is known of each file; ``included``: which of some files another one includes.
    """
    ending = {
        (path, check.extension)
        for path, told in facts.items()
        for check in told.checks
        if files[path].part == "own" and _ends(check) and not looks_at_requirements(path, check.around)
    }
    entry_folders = Counter(path.rpartition("/")[0] for path in files) if ending else Counter[str]()
    pages = {path for path, _ in ending if is_page(path, files) and entry_folders[path.rpartition("/")[0]] >= FEW}
    pages = {path for path in pages if not is_script(path)}
    pages -= included(pages) if pages else set()
    return frozenset((path, extension) for path, extension in ending if path in pages)


def is_one_of_many(
    path: str, files: Mapping[str, SourceFile], included: Callable[[Iterable[str]], frozenset[str]]
) -> bool:
    """Whether a file is a page among others, which visitors of those do not come by."""
    return is_page(path, files) and path not in included([path])


def _ends(check: Check) -> bool:
    """Whether the file itself ends, no function in it."""
    return check.outcome in ("exits", "leaves") and not any(check.around.split(" ")[:2])


def is_page(path: str, files: Mapping[str, SourceFile]) -> bool:
    """Whether a file stands among pages, beside one with which visitors begin, and is not that one."""
    directory, slash, name = path.rpartition("/")
    if FIRST.match(name):
        return False
    return f"{directory}{slash}index.php" in files or _OF_PAGES.search(directory) is not None
