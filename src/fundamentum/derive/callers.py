"""Code that is reached only where an extension was found: what it uses of it stands behind that check.

``if (extension_loaded('imagick')) { return new PictureA(); } return new PictureB();``

A class that is made, a function that is called, a file that is included behind a check is one whose uses are guarded,
if no other place in the tree makes, calls or includes it.
"""

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Final

from tree_sitter import Node

from fundamentum.derive.facts import Guarded, Use
from fundamentum.derive.nodes import Patience, branches, called, text, walked
from fundamentum.derive.tree import SourceFile, content_of
from fundamentum.untrusted.budget import Budget, Spent

MAX_GUARDED: Final = 400
"""Places behind the checks of one file that are looked at."""
_LEAVING: Final = frozenset({"return_statement", "throw_expression", "continue_statement", "exit_statement"})
_INCLUDES: Final = frozenset(
    {"include_expression", "include_once_expression", "require_expression", "require_once_expression"}
)
_FILE: Final = re.compile(r"([\w.-]+\.(?:php|inc))['\"]\)?$")

Reached = Mapping[tuple[str, str], frozenset[str]]
"""Kind and name, in lower case, of what is reached behind checks alone → the extensions that are asked for."""


def behind_check(check: Node, *, negative: bool) -> Iterator[tuple[str, str]]:
    """Kind and name of all that is made, called or included only where a check holds.

    ``negative``: the check asks for absence.
    """
    at = check
    while at.parent is not None and at.parent.type in ("unary_op_expression", "parenthesized_expression"):
        Patience.tick()
        at = at.parent
    for branch in _where_it_holds(at, negative):
        for node in walked(branch):
            kind, name = _reached(node)
            if name:
                yield kind, name


def _where_it_holds(condition: Node, negative: bool) -> Iterator[Node]:
    """The code that runs only where a check holds: its branch; or what follows where the other one leaves."""
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


def _reached(node: Node) -> tuple[str, str]:
    if node.type == "object_creation_expression" and node.named_children:
        first = node.named_children[0]
        return "class", text(first).rpartition("\\")[2] if first.type in ("name", "qualified_name") else ""
    if node.type == "scoped_call_expression":
        scope = text(node.child_by_field_name("scope")).rpartition("\\")[2]
        return ("function", called(node)) if scope.lower() in ("self", "static", "parent") else ("class", scope)
    if node.type in ("function_call_expression", "member_call_expression"):
        return "function", called(node).rpartition("\\")[2]
    if node.type in _INCLUDES and (match := _FILE.search(text(node).strip())):
        return "file", match[1]
    return "", ""


def reached_behind_checks(
    root: str, files: Sequence[SourceFile], guarded: Iterable[Guarded], used: Iterable[tuple[str, Use]], budget: Budget
) -> Reached:
    """What of ``guarded`` is reached nowhere else, as far as something in it uses the extension without a check."""
    wanted = {key for path, use in used for extension in use.extensions for key in _around(path, use, extension)}
    behind: dict[tuple[str, str], Counter[str]] = defaultdict(Counter)
    for one in guarded:
        if (one.kind, one.name.lower(), one.extension) in wanted:
            behind[one.kind, one.name.lower()][one.extension] += 1
    if not behind:
        return {}
    anywhere = _counted(root, files, behind, budget)
    return {
        key: frozenset(extension for extension, number in counted.items() if number >= anywhere[key])
        for key, counted in behind.items()
    }


def _around(path: str, use: Use, extension: str) -> Iterator[tuple[str, str, str]]:
    """The class, function and file that a use stands in."""
    if use.scope:
        yield "class", use.scope.rpartition("\\")[2], extension
    if use.function:
        yield "function", use.function, extension
    yield "file", path.rpartition("/")[2].lower(), extension


def guard_of(path: str, use: Use, extension: str, reached: Reached) -> bool:
    """Whether a use stands in something that is reached behind checks for the extension alone."""
    return any(extension in reached.get((kind, name), ()) for kind, name, _ in _around(path, use, extension))


def _counted(
    root: str, files: Sequence[SourceFile], names: Iterable[tuple[str, str]], budget: Budget
) -> Counter[tuple[str, str]]:
    """How often each is reached anywhere.  What was not looked at once the budget is spent counts as reached."""
    found: Counter[tuple[str, str]] = Counter()
    patterns = {key: _pattern(*key) for key in names}
    words = {key: key[1].encode("utf-8", "replace") for key in patterns}
    for file in (file for file in files if file.part in ("own", "optional")):
        try:
            budget.tick()
        except Spent:
            return Counter(dict.fromkeys(patterns, 1 << 30))
        lowered = content_of(root, file).lower()
        for key, pattern in patterns.items():
            if words[key] in lowered:
                found[key] += sum(1 for _ in pattern.finditer(lowered))
    return found


def _pattern(kind: str, name: str) -> re.Pattern[bytes]:
    """Where something of that name is made, called, included, or named in quotes for somebody to call."""
    word = re.escape(name.encode("utf-8", "replace"))
    if kind == "class":
        return re.compile(rb"\b(?:new|extends)\s+\\?(?:\w+\\)*%s\b|(?<![\w$])%s\s*::" % (word, word))
    if kind == "file":
        return re.compile(rb"\b(?:include|require)(?:_once)?\b[^;]{0,300}?['\"/]%s['\"]" % word)
    return re.compile(rb"(?<![\w$])(?<!function )(?<!function &)%s\s*\(|['\"]%s['\"]" % (word, word))
