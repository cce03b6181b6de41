"""From where code is reached: what is made, called or included only behind a check stands behind it.

``if (extension_loaded('imagick')) { return new PictureA(); } return new PictureB();``

A class, a function or a file that uses an extension without a check is protected if each place that reaches it is: by
what stands around that place, or by what the place itself is reached from.
"""

from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from typing import Final

from fundamentum.derive.application.tree import Each, SourceFile
from fundamentum.derive.families import words_for
from fundamentum.derive.php_source.facts import Guard, Use
from fundamentum.derive.statements.guards import GUARDS
from fundamentum.derive.statements.reaching import Key, Place, counted_in, places_in, unprotected

MAX_PLACES: Final = 12
"""Places that reach one thing: what more reach is no part that is done without."""
MAX_STEPS: Final = 3
"""How far up callers are looked for: those of what uses an extension, and theirs, and theirs again."""
MAX_LOOKED_UP: Final = 2
"""How far up it is asked whether what reaches something can be protected at all."""

Sought = tuple[Key, str]
"""What uses an extension, and the extension."""
Reached = Mapping[Sought, Guard]
"""What protects each place that reaches it."""


Fallbacks = Collection[Sought]
"""What is reached only in the absence of another extension."""
WithoutAnother = Callable[[str, Place, str], bool]
"""Of a file, a place in it and an extension: whether another one is missing where the place reaches what it does."""
Protects = Callable[[str, Place, str], Guard]
"""Of a file, a place in it and an extension: what protects what the place reaches."""


def within(path: str, scope: str, function: str) -> Iterator[Key]:
    """The class, function and file that a place stands in."""
    if scope:
        yield "class", scope.rpartition("\\")[2]
    if function and not function.startswith("__"):  # what PHP itself calls is reached with its class
        yield "function", function
    yield "file", path.rpartition("/")[2].lower()


def guard_of(path: str, use: Use, extension: str, reached: Reached) -> Guard:
    """What protects a use by where the code is reached from that it stands in."""
    ways = {reached.get((key, extension), "") for key in within(path, use.scope, use.function)}
    return next((guard for guard in GUARDS if guard in ways), "")


def is_fallback(path: str, use: Use, extension: str, fallbacks: Fallbacks) -> bool:
    """Whether the code that a use stands in is reached only in the absence of another extension."""
    return any((key, extension) in fallbacks for key in within(path, use.scope, use.function))


class Callers:
    """The places that reach what is asked for; each is looked for once."""

    def __init__(self, each: Each, files: Sequence[SourceFile]) -> None:
        self._each = each
        self._files = [file for file in files if file.part in ("own", "optional")]
        self._numbers: dict[Key, int] = {}
        """How many places reach something."""
        self._speaking: dict[Key, list[SourceFile]] = {}
        """The files that reach something; none, where more than a few places do."""
        self._places: dict[Sought, list[tuple[str, Place]]] = {}

    def reached(self, uses: Iterable[tuple[str, Use, str]], asked: Collection[str], protects: Protects) -> Reached:
        """What is reached only from places that are protected, of extensions of which each use may be.

        ``uses``: path, use and extension of all that nothing around protects; ``asked``: extensions after which
        classes are called that are made by names put together.
        """
        standing = {(extension, tuple(within(path, use.scope, use.function))) for path, use, extension in uses}
        reached: dict[Sought, Guard] = {}
        known: set[Sought] = set()
        pairs = {(key, extension) for extension, keys in standing for key in keys}
        for _ in range(MAX_STEPS):
            parts = {part for pair in pairs if pair[1] in asked for part in _first_part(*pair)}
            self._look_for({key for key, _ in pairs} | parts)
            reached |= {pair: "checked" for pair in pairs if self._made_by_name(pair, asked)}
            lost = {
                extension
                for extension, keys in standing
                if not any((key, extension) in reached or self._may_be(key, extension, protects) for key in keys)
            }
            pairs = {pair for pair in pairs if pair[1] not in lost}
            self._find_places(pairs)
            known |= pairs
            pairs = {(key, pair[1]) for pair in pairs for key in self._open_callers(pair, protects)} - known
        while more_reached := dict(self._protected(known - reached.keys(), reached, protects)):
            reached |= more_reached
        return reached

    def fallbacks(self, without_another: WithoutAnother) -> Fallbacks:
        """What is reached only where another extension is missing, of all whose places are known."""
        return frozenset(
            sought
            for sought, places in self._places.items()
            if places and all(without_another(path, place, sought[1]) for path, place in places)
        )

    def included(self, paths: Iterable[str]) -> frozenset[str]:
        """Those of some files that another one includes, or names."""
        keys = {path: ("file", path.rpartition("/")[2].lower()) for path in paths}
        self._look_for(set(keys.values()))
        return frozenset(path for path, key in keys.items() if self._numbers[key])

    def reach(self, path: str) -> int:
        """How many places include a file, or make or call the class that it is named after."""
        name = path.rpartition("/")[2].lower()
        keys: set[Key] = {("file", name), ("class", name.partition(".")[0])}
        self._look_for(keys)
        return sum(self._numbers[key] for key in keys)

    def _made_by_name(self, sought: Sought, asked: Collection[str]) -> bool:
        """Whether nothing names a class, or a file, that is called after an extension: its name is put together."""
        (kind, name), extension = sought
        if extension not in asked or self._numbers[sought[0]]:
            return False
        if kind == "file":
            return any(self._numbers[part] for part in _first_part(*sought))
        return kind == "class" and any(word in name for word in words_for(extension))

    def _may_be(self, key: Key, extension: str, protects: Protects, below: frozenset[Key] = frozenset()) -> bool:
        """Whether something may be reached only behind checks, by what is known of its places up to now.

        ``below``: what it reaches, which is no way to it.
        """
        places = self._places.get((key, extension))
        if places is None or len(below) == MAX_LOOKED_UP:
            return key not in self._speaking or bool(self._speaking[key])
        return bool(places) and all(
            protects(path, place, extension)
            or any(
                caller not in below and self._may_be(caller, extension, protects, below | {key})
                for caller in within(path, place.scope, place.function)
                if caller[0] != "file"
            )
            for path, place in places
        )

    def _open_callers(self, sought: Sought, protects: Protects) -> Iterator[Key]:
        """The classes and functions in which something is reached without a check."""
        for path, place in self._places.get(sought, ()):
            if not protects(path, place, sought[1]):
                yield from (key for key in within(path, place.scope, place.function) if key[0] != "file")

    def _protected(
        self, open_ones: Iterable[Sought], reached: Reached, protects: Protects
    ) -> Iterator[tuple[Sought, Guard]]:
        """Those of which each place is protected, with the weakest of what protects one."""
        for pair in open_ones:
            guards: list[Guard] = []
            for path, place in self._places.get(pair, ()):
                ways = {reached.get((key, pair[1]), "") for key in within(path, place.scope, place.function)}
                ways.add(protects(path, place, pair[1]))
                guards.append(next((guard for guard in GUARDS if guard in ways), ""))
            if guards and all(guards):
                yield pair, max(guards, key=GUARDS.index)

    def _look_for(self, keys: Collection[Key]) -> None:
        """Find the files that reach some, unless that has been done."""
        new = tuple(keys - self._speaking.keys())
        numbers: Counter[Key] = Counter()
        self._speaking |= {key: [] for key in new}
        looked_at = 0
        for file, counted in self._each(counted_in, self._files, new) if new else ():
            looked_at += 1
            numbers.update(counted)
            for key in counted:
                self._speaking[key].append(file)
        for key in new:
            if looked_at < len(self._files):  # no time was left to look at all
                numbers[key] = MAX_PLACES + 1
            self._numbers[key] = numbers[key]
            if numbers[key] > MAX_PLACES:
                self._speaking[key] = []

    def _find_places(self, sought: Collection[Sought]) -> None:
        """Find the places of some in those files, unless that has been done."""
        wanted: dict[Key, list[str]] = defaultdict(list)
        for key, extension in sorted(set(sought) - self._places.keys()):
            self._places[key, extension] = []
            wanted[key].append(extension)
        files = {file.path: file for key in wanted for file in self._speaking[key]}
        spoken_of = {key: extensions for key, extensions in wanted.items() if self._speaking[key]}
        left = set(files)
        for file, places in self._each(places_in, files.values(), spoken_of) if files else ():
            left.discard(file.path)
            for place in places:
                for extension in place.guards:
                    self._places[place.key, extension].append((file.path, place))
        for key, extension in sought if left else ():  # no time was left to look at all
            self._places[key, extension].append(("", unprotected(key, [extension])))


def _first_part(key: Key, extension: str) -> Iterator[Key]:
    """What the name of a file begins with, if an extension follows: ``link-`` of ``link-sockets.php``."""
    if key[0] == "file":
        for word in words_for(extension):
            before, word_there, _ = key[1].partition(word)
            if word_there and before and not before[-1].isalpha():
                yield "part", before
