"""Apache's sections: for what each of them counts, and in which order they are merged.

Source: Apache's documentation, "How the sections are merged": what is said for the server and the host, then
directories, the outer ones first, each followed by its own file (``.htaccess``), then regular expressions for
directories, then files, then addresses, then conditions.  Sections for files that stand in one for a directory come in
the order of these (asked of real servers in ``tests/real/test_first_page.py``).
"""

import posixpath
from typing import Final

from fundamentum.untrusted import name_patterns, patterns
from fundamentum.webservers.apache2.lines import Line, Section
from fundamentum.webservers.visit_questions import matched

SCRIPT: Final = "index.php"
"""The script that visitors ask for first."""
ANOTHER: Final = "another.php"
"""Stands for every other script: what counts for the front page alone is told as a part of the site."""
CONDITIONS: Final = ("if", "elseif", "else")
FILES: Final = ("files", "filesmatch")
_BEHIND_FOLDERS: Final = 100_000
"""The place of regular expressions among directories, whose place is given by the length of their paths."""
Rank = tuple[int, int]
"""The kind of section (0 directories and none, 1 files, 2 addresses, 3 conditions), and the directory's place."""


def place_of(line: Line) -> Section | None:
    """The section that decides for what a line counts."""
    return line.within("files", "filesmatch", "location", "locationmatch", "directory", "directorymatch")


def is_pattern(place: Section) -> bool:
    """Whether a directory section holds a regular expression."""
    return place.kind == "directorymatch" or (place.kind == "directory" and place.words.startswith("~ "))


def _folder(place: Section) -> str:
    return place.words.rstrip("/") or "/"


def length_of(place: Section) -> int:
    """How long the path of a directory section is: longer ones count later."""
    return len(_folder(place))


def below_root(place: Section, root: str | None) -> str | None:
    """The part of the site that a directory section counts for: all of it, or a directory in it; None: nothing."""
    if root is None:
        return None
    folder, base = _folder(place), root.rstrip("/")
    if folder == "/" or base == folder or f"{base}/".startswith(f"{folder}/"):
        return ""
    if any(sign in folder for sign in "*?["):
        parts = base.split("/")
        depth = folder.count("/") + 1
        return "" if len(parts) >= depth and name_patterns.fits("/".join(parts[:depth]), folder) else None
    return folder[len(base) + 1 :] if folder.startswith(f"{base}/") else None


def matches_root(place: Section, root: str | None) -> bool:
    """Whether the regular expression of a section fits the document root, or is not understood."""
    return root is not None and _searched(place, f"{root.rstrip('/')}/") is not False


def _searched(place: Section, text: str) -> bool | None:
    """Whether the regular expression of a section is found in a text; None: it is not understood."""
    matched_as = patterns.search(place.words.removeprefix("~ "), text)
    return None if matched_as is None else bool(matched_as)


def is_unclear(place: Section, root: str) -> bool:
    """Whether it cannot be told for what a section counts."""
    if not (place.kind.endswith("match") or place.words.startswith("~ ")):
        return False
    tried = (f"{root.rstrip('/')}/",) if place.kind.startswith("directory") else (f"/{SCRIPT}", f"/{ANOTHER}")
    return any(_searched(place, text) is None for text in tried)


def part_of(place: Section) -> str | None:
    """The part of a site that a section for files or addresses counts for, the front page alone among them."""
    words = place.words
    pattern = place.kind.endswith("match") or words.startswith("~ ")
    if place.kind.startswith("files"):
        front, others = (
            _searched(place, script) is not False if pattern else name_patterns.fits(script, words)
            for script in (SCRIPT, ANOTHER)
        )
        return ("" if others else SCRIPT) if front else None
    if pattern:
        front, others = (_searched(place, f"/{script}") is not False for script in (SCRIPT, ANOTHER))
        return ("" if others else SCRIPT) if front else None
    if any(sign in words for sign in "*?["):
        front, others = (_below(f"/{script}", words) for script in (SCRIPT, ANOTHER))
        return ("" if others else SCRIPT) if front else None
    return words.strip("/")


def place_in_site(line: Line, root: str | None) -> str | None:
    """The part of a site that a line counts for, as a path below its document root; None: it does not count."""
    outer, place = line.within("directory", "directorymatch"), place_of(line)
    above: str | None = ""
    if outer:
        above = below_root(outer, root) if not is_pattern(outer) else "" if matches_root(outer, root) else None
    below = part_of(place) if place and place is not outer else ""
    return None if above is None or below is None else "/".join(filter(None, (above, below)))


def order_of(line: Line) -> Rank:
    """When a line counts, of those that count: later is higher."""
    outer = line.within("directory", "directorymatch")
    if outer is None:
        depth = int(line.within("virtualhost") is not None)
    elif is_pattern(outer):
        depth = _BEHIND_FOLDERS
    else:  # of one directory, its own file comes behind the sections for it; such a file has the number -1
        depth = 2 * length_of(outer) + (outer.number < 0) + 2
    kinds = [section.kind for section in line.inside]
    by_kind = (CONDITIONS, ("location", "locationmatch"), FILES)
    return next((3 - at for at, named in enumerate(by_kind) if any(kind in named for kind in kinds)), 0), depth


def rank(line: Line, uri: str, folder: str, address: str = "") -> Rank | None:
    """When a line counts for an address whose file lies in a directory; None: it does not count.

    ``address`` is what sections for addresses see, where the host's own rules have rewritten that to ``uri``.
    Raises :class:`~fundamentum.webservers.visit_questions.Unclear` where a regular expression is not understood.
    """
    outer = line.within("directory", "directorymatch")
    if outer and not _holds(outer, folder):
        return None
    files = line.within(*FILES)
    name = posixpath.basename(uri)
    if files and not _fits(files, name, name_patterns.fits(name, files.words)):
        return None
    location = line.within("location", "locationmatch")
    seen = address or uri
    if location and not _fits(location, seen, _below(seen, location.words)):
        return None
    return order_of(line)


def never_counts(line: Line) -> bool:
    """Whether it is in a section for files within a condition: Apache asks for files first, and for conditions last."""
    kinds = [section.kind for section in line.inside]
    conditions = [at for at, kind in enumerate(kinds) if kind in CONDITIONS]
    return bool(conditions) and any(kind in FILES for kind in kinds[conditions[0] :])


def _holds(place: Section, folder: str) -> bool:
    if is_pattern(place):
        return bool(matched(place.words.removeprefix("~ "), f"{folder.rstrip('/')}/"))
    return below_root(place, folder) == ""


def _fits(place: Section, text: str, plainly: bool) -> bool:
    pattern = place.kind.endswith("match") or place.words.startswith("~ ")
    return bool(matched(place.words.removeprefix("~ "), text)) if pattern else plainly


def _below(uri: str, prefix: str) -> bool:
    if any(sign in prefix for sign in "*?["):
        parts = uri.split("/")[: prefix.count("/") + 1]
        return len(parts) > prefix.count("/") and all(
            name_patterns.fits(part, segment) for part, segment in zip(parts, prefix.split("/"), strict=True)
        )
    return is_below(uri, prefix)


def is_below(uri: str, prefix: str) -> bool:
    """Whether an address is another one, or stands below it."""
    return uri == prefix or uri.startswith(prefix if prefix.endswith("/") else f"{prefix}/")
