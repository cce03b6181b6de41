"""The places of one file at which a class is made, a function called or a file included, found by their words."""

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from typing import Final, NamedTuple

from fundamentum.derive.families import CHOOSABLE
from fundamentum.derive.php_source.bare_code import all_words
from fundamentum.derive.php_source.facts import Guard
from fundamentum.derive.php_source.nodes import Patience, names_around
from fundamentum.derive.php_source.source import Source
from fundamentum.derive.statements.guards import Guards

Key = tuple[str, str]
"""``class``, ``function`` or ``file``, and its name in lower case; ``part``, and what names of files begin with."""


class Place(NamedTuple):
    """Where something is made, called or included."""

    key: Key
    guards: Mapping[str, Guard]
    """Extension → what stands around the place."""
    names: tuple[str, ...]
    """What the conditions around it speak of."""
    scope: str
    function: str
    instead: Mapping[str, bool]
    """Extension → whether it is reached only in the absence of another one."""


def counted_in(data: bytes, keys: Collection[Key]) -> dict[Key, int]:
    """How often each is reached in one file."""
    lowered = data.lower()
    # A few words are found sooner than all are told apart.
    there = lowered if len(keys) < FEW else all_words(lowered)
    counted = {key: sum(1 for _ in _spots(lowered, key)) for key in keys if _first_word(key) in there}
    return {key: number for key, number in counted.items() if number}


FEW: Final = 40
"""Names that are looked for one by one."""


def places_in(data: bytes, sought: Mapping[Key, Sequence[str]]) -> list[Place]:
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
        return [unprotected(key, sought[key]) for key, _ in spots]


def unprotected(key: Key, extensions: Iterable[str]) -> Place:
    """A place of which nothing is known."""
    return Place(key, dict.fromkeys(extensions, ""), (), "", "", dict.fromkeys(extensions, False))


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
    instead = {extension: guard == "instead" for extension, (guard, _) in told.items()}
    return Place(key, around, names, scope, function, instead)


def _counts(guard: Guard, extension: str) -> bool:
    """Whether what stands around a call protects all that is called.

    A catch may be for anything that fails there, who explains what is missing may not do without it, a test of PHP's
    version may be for the whole program; a word such as ``xml`` is chosen for many reasons.
    """
    return guard in ("checked", "never") or (guard == "chosen" and extension in CHOOSABLE)


def _first_word(key: Key) -> bytes:
    return re.split(rb"[.-]", key[1].encode("utf-8", "replace"), maxsplit=1)[0]


def _spots(lowered: bytes, key: Key) -> Iterator[tuple[int, int]]:
    """Where something is reached, in code in lower case."""
    word = key[1].encode("utf-8", "replace")
    at = lowered.find(word)
    while at >= 0:
        end = at + len(word)
        before, after = lowered[max(at - BEFORE, 0) : at], lowered[end : end + BEFORE]
        if not _NAME_ON.match(after) and _REACHES[key[0]](before, after.lstrip()) and not _of_class_map(before, after):
            yield at, end
        at = lowered.find(word, end)


def _of_class_map(before: bytes, after: bytes) -> bool:
    """Whether it stands in a table of where classes are, which reaches none: ``'picture' => '/Picture.php'``."""
    return _MAPPED.match(after) is not None or (after[:1] in (b"'", b'"') and _MAPPED_TO.search(before) is not None)


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


def _begins(before: bytes, after: bytes) -> bool:
    """The beginning of a name in quotes, with the rest put to it: ``'link-' . $kind``, ``"link-$kind.php"``."""
    on = after.startswith((b"$", b"{$")) or (after[:1] in (b"'", b'"') and after[1:].lstrip().startswith((b".", b",")))
    return on and before[-1:] in (b"'", b'"', b"/")


def _quoted(before: bytes, after: bytes) -> bool:
    return before[-1:] in (b"'", b'"') and after[:1] == before[-1:]


BEFORE: Final = 60
"""Bytes around a name that tell what is done with it."""
_NEW: Final = re.compile(rb"\b(?:new|extends)\s+\\?(?:\w+\\)*$")
_IN_QUOTES: Final = re.compile(rb"['\"]\\{0,2}(?:\w+\\{1,2})*$")
_LINKS: Final = re.compile(rb"(?:href|action|src|location|url)\b[^;<>]*$")
_MAPPED: Final = re.compile(rb"['\"]\s*=>\s*(?:[\w$()]+\s*\.\s*)?['\"][^'\"]*(?:/|\.php['\"]|\Z)")
_MAPPED_TO: Final = re.compile(rb"(?:\\\\\w+|\w+\\\w+)['\"]\s*=>\s*(?:[\w$()]+\s*\.\s*)?['\"][^'\"]*\Z")
_NAMING: Final = re.compile(rb"[\w$]$")
_NAME_ON: Final = re.compile(rb"[\w\\]")
_DEFINES: Final = re.compile(rb"\bfunction\s++&?\s*+$")
_REACHES: Final[Mapping[str, Callable[[bytes, bytes], bool]]] = {
    "class": _makes,
    "function": _calls,
    "file": _includes,
    "part": _begins,
}
