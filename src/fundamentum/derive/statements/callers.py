"""From where code is reached: what is made, called or included only behind a check stands behind it.

``if (extension_loaded('imagick')) { return new PictureA(); } return new PictureB();``

A class, a function or a file that uses an extension without a check is protected if each place that reaches it is: by
what stands around that place, or by what the place itself is reached from.
"""

import re
from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from typing import Final, NamedTuple

from fundamentum.derive.application.tree import Each, SourceFile
from fundamentum.derive.families import CHOOSABLE, words_for
from fundamentum.derive.php_source.bare_code import all_words
from fundamentum.derive.php_source.facts import Guard, Use
from fundamentum.derive.php_source.nodes import Patience, names_around
from fundamentum.derive.php_source.source import Source
from fundamentum.derive.statements.guards import GUARDS, Guards

MAX_PLACES: Final = 12
"""Places that reach one thing: what more reach is no part that is done without."""
MAX_STEPS: Final = 3
"""How far up callers are looked for: those of what uses an extension, and theirs, and theirs again."""
MAX_LOOKED_UP: Final = 2
"""How far up it is asked whether what reaches something can be protected at all."""

Key = tuple[str, str]
"""``class``, ``function`` or ``file``, and its name in lower case."""
Sought = tuple[Key, str]
"""What uses an extension, and the extension."""
Reached = Mapping[Sought, Guard]
"""What protects each place that reaches it."""


class Place(NamedTuple):
    """Where something is made, called or included."""

    key: Key
    guards: Mapping[str, Guard]
    """Extension → what stands around the place."""
    names: tuple[str, ...]
    """What the conditions around it speak of."""
    scope: str
    function: str


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
    found = {reached.get((key, extension), "") for key in within(path, use.scope, use.function)}
    return next((guard for guard in GUARDS if guard in found), "")


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
        more = {(key, extension) for extension, keys in standing for key in keys}
        for _ in range(MAX_STEPS):
            self._look_for({key for key, _ in more})
            reached |= {one: "checked" for one in more if self._made_by_name(one, asked)}
            lost = {
                extension
                for extension, keys in standing
                if not any((key, extension) in reached or self._may_be(key, extension, protects) for key in keys)
            }
            more = {one for one in more if one[1] not in lost}
            self._find_places(more)
            known |= more
            more = {(key, one[1]) for one in more for key in self._open_callers(one, protects)} - known
        while more_reached := dict(self._protected(known - reached.keys(), reached, protects)):
            reached |= more_reached
        return reached

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

    def _made_by_name(self, one: Sought, asked: Collection[str]) -> bool:
        """Whether nothing names a class that is called after an extension: its name is put together."""
        (kind, name), extension = one
        return (
            kind == "class"
            and not self._numbers[one[0]]
            and extension in asked
            and any(word in name for word in words_for(extension))
        )

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

    def _open_callers(self, one: Sought, protects: Protects) -> Iterator[Key]:
        """The classes and functions in which something is reached without a check."""
        for path, place in self._places.get(one, ()):
            if not protects(path, place, one[1]):
                yield from (key for key in within(path, place.scope, place.function) if key[0] != "file")

    def _protected(
        self, open_ones: Iterable[Sought], reached: Reached, protects: Protects
    ) -> Iterator[tuple[Sought, Guard]]:
        """Those of which each place is protected, with the weakest of what protects one."""
        for one in open_ones:
            guards: list[Guard] = []
            for path, place in self._places.get(one, ()):
                found = {reached.get((key, one[1]), "") for key in within(path, place.scope, place.function)}
                found.add(protects(path, place, one[1]))
                guards.append(next((guard for guard in GUARDS if guard in found), ""))
            if guards and all(guards):
                yield one, max(guards, key=GUARDS.index)

    def _look_for(self, keys: Collection[Key]) -> None:
        """Find the files that reach some, unless that has been done."""
        new = tuple(keys - self._speaking.keys())
        numbers: Counter[Key] = Counter()
        self._speaking |= {key: [] for key in new}
        looked_at = 0
        for file, counted in self._each(_counted_in, self._files, new) if new else ():
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
        for file, places in self._each(_places_in, files.values(), spoken_of) if files else ():
            left.discard(file.path)
            for place in places:
                for extension in place.guards:
                    self._places[place.key, extension].append((file.path, place))
        for key, extension in sought if left else ():  # no time was left to look at all
            self._places[key, extension].append(("", _unprotected(key, [extension])))


def _counted_in(data: bytes, keys: Collection[Key]) -> dict[Key, int]:
    """How often each is reached in one file."""
    lowered = data.lower()
    # A few words are found sooner than all are told apart.
    there = lowered if len(keys) < FEW else all_words(lowered)
    counted = {key: sum(1 for _ in _spots(lowered, key)) for key in keys if _first_word(key) in there}
    return {key: number for key, number in counted.items() if number}


FEW: Final = 40
"""Names that are looked for one by one."""


def _places_in(data: bytes, sought: Mapping[Key, Sequence[str]]) -> list[Place]:
    """The places of one file that reach what is sought."""
    lowered = data.lower()
    words = all_words(lowered)
    spots = [(key, spot) for key in sought if _first_word(key) in words for spot in _spots(lowered, key)]
    if not spots:
        return []
    Patience.begin()
    try:
        source = Source(data)
        guards = Guards(source, lowered, words)
        return [place for key, spot in spots if (place := _place(guards, source, spot, key, sought[key])) is not None]
    except RecursionError:
        return [_unprotected(key, sought[key]) for key, _ in spots]


def _unprotected(key: Key, extensions: Iterable[str]) -> Place:
    """A place of which nothing is known."""
    return Place(key, dict.fromkeys(extensions, ""), (), "", "")


def _place(guards: Guards, source: Source, spot: tuple[int, int], key: Key, extensions: Sequence[str]) -> Place | None:
    """What stands around a place; None: it is in a comment, or within the very thing."""
    node = source.at(*spot)
    if node is None or node.type == "comment":
        return None
    scope, function = names_around(node)
    if key in (("class", scope), ("function", function)):
        return None
    told = {extension: guards.around(node, (extension,), reaching=True) for extension in extensions}
    names = next(iter(told.values()))[1]
    around = {extension: guard if _counts(guard, extension) else "" for extension, (guard, _) in told.items()}
    return Place(key, around, names, scope, function)


def _counts(guard: Guard, extension: str) -> bool:
    """Whether what stands around a call protects all that is called.

    A catch may be for anything that fails there, who explains what is missing may not do without it, a test of PHP's
    version may be for the whole program; a word such as ``xml`` is chosen for many reasons.
    """
    return guard == "checked" or (guard == "chosen" and extension in CHOOSABLE)


def _first_word(key: Key) -> bytes:
    return re.split(rb"[.-]", key[1].encode("utf-8", "replace"), maxsplit=1)[0]


def _spots(lowered: bytes, key: Key) -> Iterator[tuple[int, int]]:
    """Where something is reached, in code in lower case."""
    word = key[1].encode("utf-8", "replace")
    at = lowered.find(word)
    while at >= 0:
        end = at + len(word)
        before, after = lowered[max(at - BEFORE, 0) : at], lowered[end : end + BEFORE]
        if not _NAME_ON.match(after) and _REACHES[key[0]](before, after.lstrip()):
            yield at, end
        at = lowered.find(word, end)


def _makes(before: bytes, after: bytes) -> bool:
    """``new Picture``, ``extends Picture``, ``Picture::``, ``Picture $given``; in quotes for somebody to make."""
    made = _NEW.search(before) or (not _NAMING.search(before) and after.startswith((b"::", b"$")))
    return bool(made) or (after[:1] in (b"'", b'"', b"@") and _IN_QUOTES.search(before) is not None)


def _calls(before: bytes, after: bytes) -> bool:
    """``picture(``, ``->picture(``, ``::picture(``, but where it is defined; in quotes for somebody to call."""
    called_here = after.startswith(b"(") and not _NAMING.search(before) and not _DEFINES.search(before)
    return called_here or _quoted(before, after)


def _includes(before: bytes, after: bytes) -> bool:
    """A name in quotes, with or without its directory, that is no link."""
    return after[:1] in (b"'", b'"') and before[-1:] in (b"'", b'"', b"/") and not _LINKS.search(before)


def _quoted(before: bytes, after: bytes) -> bool:
    return before[-1:] in (b"'", b'"') and after[:1] == before[-1:]


BEFORE: Final = 60
"""Bytes around a name that tell what is done with it."""
_NEW: Final = re.compile(rb"\b(?:new|extends)\s+\\?(?:\w+\\)*$")
_IN_QUOTES: Final = re.compile(rb"['\"]\\{0,2}(?:\w+\\{1,2})*$")
_LINKS: Final = re.compile(rb"(?:href|action|src|location|url)\b[^;<>]*$")
_NAMING: Final = re.compile(rb"[\w$]$")
_NAME_ON: Final = re.compile(rb"[\w\\]")
_DEFINES: Final = re.compile(rb"\bfunction\s++&?\s*+$")
_REACHES: Final[Mapping[str, Callable[[bytes, bytes], bool]]] = {"class": _makes, "function": _calls, "file": _includes}
