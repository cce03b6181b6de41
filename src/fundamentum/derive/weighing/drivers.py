"""Drivers: files and classes that are one of several ways to do a thing, each named after what it does it with."""

import re
from bisect import bisect_left
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from typing import Final

from fundamentum.catalog.symbols import known_extensions, own_extensions
from fundamentum.derive.families import CHOOSABLE, rivals, words_for
from fundamentum.derive.statements.composed_names import Composed

DRIVERISH: Final = re.compile(
    r"driver|adapter|backend|handler|stor(?:e|age)|cache|provider|connector|transport|engine|plugin|generator|caster|"
    r"session|auth|dumper|loader|renderer|strategy"
)
"""Words in the names of classes that are one of several to do a thing."""


_LOOKING: Final = re.compile(r"(?:check|requirement|probe)s?\.(?:php|inc)$", re.I)
_WAYS: Final = re.compile(
    r"^(?!Abstract|Base).*[A-Za-z0-9](?P<ending>(?:Driver|Adapter|Backend|Loader|Dumper|Caster|Renderer|Writer|Reader|"
    r"Exporter|Importer|Generator)\.php)$|"
    r"^(?P<beginning>(?i:drivers?|auth|backends?|adapters?)[_-])\w+\.php$"
)
"""How files are called that are one way among several to do a thing: ``XliffLoader.php``, ``driver_imap.php``."""
_OF_DRIVERS: Final = re.compile(
    r"(?:^|/)(?:auth\w*|cach(?:e|es|ing)|drivers?|adapters?|backends?|handlers?|stor(?:e|age)s?|providers?|connectors?|"
    r"transports?|engines?|sessions?|strateg(?:y|ies)|gateways?|mailers?)/$",
    re.I,
)
"""Directories of files that are each a way to do what the directory is called after."""
MANY: Final = 5


class Drivers:
    """Answers of a file, and the class in it, whether it is such a driver for an extension."""

    def __init__(
        self,
        paths: Iterable[str],
        speaking: Callable[[str], set[str]],
        composed: Callable[[], Collection[Composed]] = list,
    ) -> None:
        """``paths``: all files; ``speaking``: the paths of those that speak of an extension.

        ``composed``: tells, when it is asked, the names that the program puts together.
        """
        self._paths = sorted(paths)
        self._speaking = speaking
        self._composed = composed
        self._alternatives: dict[tuple[str, ...], bool] = {}

    def __call__(self, path: str, scope: str, extension: str, function: str = "") -> bool:
        """Whether a file or class is named after the extension and has siblings named after something else.

        Or a function, whose name the program puts together.  One that looks whether the extension is there is no way
        to do without it.
        """
        if _LOOKING.search(path):
            return False
        if extension not in own_extensions() or extension in CHOOSABLE:
            words = words_for(extension)
            if DRIVERISH.search(scope) and any(word in scope for word in words):
                return True
        key = (path, extension)
        if key not in self._alternatives:
            self._alternatives[key] = self._has_siblings(path, extension) or self._one_of_many(path, extension)
        return self._alternatives[key] or self._is_chosen(path, scope, function, extension)

    def _is_chosen(self, path: str, scope: str, function: str, extension: str) -> bool:
        """Whether the program puts its name together, from what is chosen and words around it."""
        if extension not in CHOOSABLE:
            return False
        names = (path.lower(), scope.rpartition("\\")[2], function)
        words = [word for word in words_for(extension) if any(word in name for name in names)]
        if not words:
            return False
        key = (*names, extension)
        if key not in self._alternatives:
            self._alternatives[key] = any(self._one_chosen(composed, names, words) for composed in self._composed())
        return self._alternatives[key]

    def _one_chosen(self, composed: Composed, names: tuple[str, str, str], words: Sequence[str]) -> bool:
        path, kind, function = names
        if composed.of_file:
            directory, middle = composed.chosen_file(path)
            others = (composed.chosen_file(other.lower()) for other in self._paths if middle)
            return _is_named(middle, words) and any(
                other[0] == directory and other[1] and not _is_named(other[1], words) for other in others
            )
        if _is_named(composed.chosen(function), words):
            return True
        stems = (other.lower().rpartition("/")[2].partition(".")[0] for other in self._paths)
        return _is_named(composed.chosen(kind), words) and any(
            (middle := composed.chosen(stem)) and not _is_named(middle, words) for stem in stems
        )

    def _below(self, directory: str) -> str:
        """Every path below a directory (with ``/`` at its end; empty: all) on a line of its own."""
        if not directory:
            return "\n" + "\n".join(self._paths) + "\n"
        start = bisect_left(self._paths, directory)
        end = bisect_left(self._paths, directory[:-1] + chr(ord("/") + 1), start)
        return "\n" + "\n".join(self._paths[start:end]) + "\n"

    def _has_siblings(self, path: str, extension: str) -> bool:
        for word in sorted(words_for(extension), key=len, reverse=True):
            for start, part, before, after in _parts_named(path, word):
                tail = "(?=/)" if start + len(part) < len(path) else r"(?=\n)"
                bare = not before.strip("._-") and not after.rsplit(".", 1)[0].strip("._-")
                between = "[A-Za-z0-9]+" if bare else "[A-Za-z0-9_-]+"
                shape = f"({re.escape(before)}{between}{re.escape(after)})"
                pattern = re.compile(f"\n{re.escape(path[:start])}{shape}{tail}")
                siblings = {match[1].lower() for match in pattern.finditer(self._below(path[:start]))}
                siblings.discard(part.lower())
                if any(other in sibling for sibling in siblings for other in rivals(extension)):
                    return True
                named = {sibling.rpartition(".")[0] or sibling for sibling in siblings} & known_extensions()
                few = 1 if extension in CHOOSABLE and _OF_DRIVERS.search(path[:start]) else 4
                if len(siblings) >= (few if bare else 2) or len(named) > 1:
                    return True
        return False

    def _one_of_many(self, path: str, extension: str) -> bool:
        """Whether a file is one way among many to do a thing, few of which use the extension."""
        directory, slash, name = path.rpartition("/")
        way = _WAYS.match(name)
        if way is None:
            return False
        begin, end = re.escape(way["beginning"] or ""), re.escape(way["ending"] or ".php")
        like = re.compile(rf"\n({re.escape(directory + slash)}{begin}[^/\n]+{end})(?=\n)")
        ways = set(like.findall(self._below(directory + slash)))
        speaking = self._speaking(extension)
        few = 2 if begin else 3
        return len(ways) >= MANY and len(ways & speaking) * few <= len(ways)


def _is_named(middle: str, words: Sequence[str]) -> bool:
    """Whether what was chosen is named by one of some words, perhaps with a little more: ``mysqli``, ``pdo_mysql``"""
    return any(word in middle and len(middle) <= len(word) + 4 for word in words)


def _parts_named(path: str, word: str) -> Iterator[tuple[int, str, str, str]]:
    """Parts of a path that hold a word as a word: where the part begins, the part, what is before and after."""
    start = 0
    for part in path.split("/"):
        lowered = part.lower()
        at = lowered.find(word)
        while at >= 0:
            end = at + len(word)
            if at == 0 or not part[at - 1].isalpha() or (part[at].isupper() and part[at - 1].islower()):
                after = part[end:]
                if after[:1] in ("i", "d", "3") and word in ("mysql", "memcache", "sqlite"):
                    after = after[1:]
                if not after[:1].islower():
                    yield start, part, part[:at], after
            at = lowered.find(word, end)
        start += len(part) + 1
