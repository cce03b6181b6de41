"""Code that is reached only where an extension was found: what it uses of it stands behind that check.

``if (extension_loaded('imagick')) { return new PictureA(); } return new PictureB();``

A class that is made, a function that is called, a file that is included behind a check is one whose uses are guarded,
if no other place in the tree makes, calls or includes it.
"""

import re
from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from typing import Final, Literal

from tree_sitter import Node

from fundamentum.derive.application.tree import Each, SourceFile
from fundamentum.derive.families import words_for
from fundamentum.derive.php_source.facts import Guarded, Use
from fundamentum.derive.php_source.nodes import Patience, around, called, field, text, walked
from fundamentum.derive.php_source.scalars import is_true
from fundamentum.derive.statements.branches import branches
from fundamentum.derive.statements.truth import CONDITION, DENIED, Worth, climbed

MAX_NAME: Final = 200
"""Characters of a file that is included."""
MAX_GUARDED: Final = 400
"""Places behind the checks of one file that are looked at."""
_LEAVING: Final = frozenset({"return_statement", "throw_expression", "continue_statement", "exit_statement"})
_INCLUDES: Final = frozenset(
    {"include_expression", "include_once_expression", "require_expression", "require_once_expression"}
)
Kind = Literal["class", "function", "file"]
_FILE: Final = re.compile(r"([\w.-]+\.(?:php|inc))['\"]\)?$")

Reached = Mapping[tuple[str, str], frozenset[str]]
"""Kind and name, in lower case, of what is reached behind checks alone → the extensions that are asked for."""


def behind_check(check: Node, extensions: Iterable[str], worth: Worth = CONDITION) -> Iterator[Guarded]:
    """All that is made, called or included only where a check for the extensions holds.

    ``check``: the call, or a name that holds its result; ``worth``: what that comes to where the extension is there.
    """
    for at, told in climbed(check, worth, alone=False):
        for branch in _where_it_holds(at, is_true(told.failed)) if told.failed is not None else ():
            for node in walked(branch):
                kind, name = _reached(node)
                if name:
                    yield from (Guarded(kind, name, extension, node.start_byte) for extension in extensions)


def behind_names(root: Node, data: bytes, names: Iterable[tuple[str, str]]) -> Iterator[Guarded]:
    """The same of variables and properties that hold the result of a check: ``$this->fine ? new Fine : new Plain``

    ``names``: each with its extension.  Which result they hold is not known: one of the branches is behind it.
    """
    for name, extension in names:
        word = re.compile(re.escape(name.lstrip("$->").encode("utf-8", "replace")) + rb"\b")
        for place in around(root, data, word, _HOLDING):
            if text(place).replace("::$", "->").endswith(name):
                for worth in (CONDITION, DENIED):
                    yield from behind_check(place, [extension], worth)


_HOLDING: Final = ("variable_name", "member_access_expression", "scoped_property_access_expression")


def _where_it_holds(condition: Node, negative: bool) -> Iterator[Node]:
    """The code that runs only where a check holds: its branch; or what follows where the other one leaves.

    ``negative``: it holds where the condition is false.
    """
    then, otherwise = branches(condition)
    holds, fails = (otherwise, then) if negative else (then, otherwise)
    if holds is not None:
        yield holds
    statement = condition
    while statement.parent is not None and statement.type != "if_statement":
        Patience.tick()
        statement = statement.parent
    if holds is None and fails is not None and any(node.type in _LEAVING for node in walked(fails)):
        after = statement.next_named_sibling
        while after is not None:
            Patience.tick()
            yield after
            after = after.next_named_sibling


def _reached(node: Node) -> tuple[Kind, str]:
    if node.type == "object_creation_expression" and node.named_children:
        first = node.named_children[0]
        return "class", text(first).rpartition("\\")[2] if first.type in ("name", "qualified_name") else ""
    if node.type == "scoped_call_expression":
        scope = text(field(node, "scope")).rpartition("\\")[2]
        return ("function", called(node)) if scope.lower() in ("self", "static", "parent") else ("class", scope)
    if node.type in ("function_call_expression", "member_call_expression"):
        return "function", called(node).rpartition("\\")[2]
    if node.type in _INCLUDES and (match := _FILE.search(text(node).strip()[-MAX_NAME:])):
        return "file", match[1]
    return "file", ""


def reached_behind_checks(
    each: Each,
    files: Sequence[SourceFile],
    guarded: Iterable[Guarded],
    used: Iterable[tuple[str, Use]],
    asked: Collection[str],
) -> Reached:
    """What of ``guarded`` is reached nowhere else, as far as something in it uses the extension without a check.

    And classes that nothing names, called after an extension that is ``asked`` for: their names are put together.
    """
    wanted = {key for path, use in used for extension in use.extensions for key in within(path, use, extension)}
    behind: dict[tuple[str, str], Counter[str]] = defaultdict(Counter)
    for place in guarded:
        if (place.kind, place.name.lower(), place.extension) in wanted:
            behind[place.kind, place.name.lower()][place.extension] += 1
    for kind, name, extension in wanted:
        if kind == "class" and extension in asked and any(word in name for word in words_for(extension)):
            behind[kind, name][extension] += 0
    if not behind:
        return {}
    anywhere = _counted(each, files, behind)
    return {
        key: frozenset(extension for extension, number in counted.items() if number >= anywhere[key])
        for key, counted in behind.items()
    }


def within(path: str, use: Use, extension: str) -> Iterator[tuple[str, str, str]]:
    """The class, function and file that a use stands in."""
    if use.scope:
        yield "class", use.scope.rpartition("\\")[2], extension
    if use.function:
        yield "function", use.function, extension
    yield "file", path.rpartition("/")[2].lower(), extension


def guard_of(path: str, use: Use, extension: str, reached: Reached) -> bool:
    """Whether a use stands in something that is reached behind checks for the extension alone."""
    return any(extension in reached.get((kind, name), ()) for kind, name, _ in within(path, use, extension))


def _counted(each: Each, files: Sequence[SourceFile], names: Collection[tuple[str, str]]) -> Counter[tuple[str, str]]:
    """How often each is reached anywhere.  Where there was no time to look at all files, each counts as reached."""
    found: Counter[tuple[str, str]] = Counter()
    own = [file for file in files if file.part in ("own", "optional")]
    looked_at = [found.update(counted) for _, counted in each(_counted_in, own, tuple(names))]
    return found if len(looked_at) == len(own) else Counter(dict.fromkeys(names, 1 << 30))


def _counted_in(data: bytes, names: Iterable[tuple[str, str]]) -> dict[tuple[str, str], int]:
    lowered = data.lower()
    places = ((key, _places(lowered, key[1].encode("utf-8", "replace"))) for key in names)
    counted = {key: sum(_REACHES[key[0]](*place) for place in there) for key, there in places}
    return {key: number for key, number in counted.items() if number}


def _places(lowered: bytes, word: bytes) -> Iterator[tuple[bytes, bytes]]:
    """What stands before and behind each place of a word."""
    at = lowered.find(word)
    while at >= 0:
        end = at + len(word)
        yield lowered[max(at - BEFORE, 0) : at], lowered[end : end + BEFORE].lstrip()
        at = lowered.find(word, end)


def _makes(before: bytes, after: bytes) -> bool:
    """``new Picture``, ``extends Picture``, ``Picture::``, ``Picture $given``; in quotes for somebody to make."""
    made = _NEW.search(before) or (not _NAMING.search(before) and after.startswith((b"::", b"$")))
    return bool(made) or (after[:1] in (b"'", b'"') and _IN_QUOTES.search(before) is not None)


def _calls(before: bytes, after: bytes) -> bool:
    """``picture(``, ``->picture(``, ``::picture(``, but where it is defined; in quotes for somebody to call."""
    called_here = after.startswith(b"(") and not _NAMING.search(before) and not _DEFINES.search(before)
    return called_here or _quoted(before, after)


def _includes(before: bytes, after: bytes) -> bool:
    return after[:1] in (b"'", b'"') and before[-1:] in (b"'", b'"', b"/")


def _quoted(before: bytes, after: bytes) -> bool:
    return before[-1:] in (b"'", b'"') and after[:1] == before[-1:]


BEFORE: Final = 60
"""Bytes around a name that tell what is done with it."""
_NEW: Final = re.compile(rb"\b(?:new|extends)\s+\\?(?:\w+\\)*$")
_IN_QUOTES: Final = re.compile(rb"['\"]\\{0,2}(?:\w+\\{1,2})*$")
_NAMING: Final = re.compile(rb"[\w$]$")
_DEFINES: Final = re.compile(rb"\bfunction\s++&?\s*+$")
_REACHES: Final[Mapping[str, Callable[[bytes, bytes], bool]]] = {"class": _makes, "function": _calls, "file": _includes}
