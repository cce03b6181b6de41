"""Lists of extensions in a program: what they name, and those that are called after what they are.

``$requiredExtensions = ['intl', 'gd'];``
"""

import re
from collections.abc import Iterable, Iterator
from typing import Final, Literal

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Check
from fundamentum.derive.php_source.nodes import heading, line, nearest, string, text, unwrapped
from fundamentum.derive.php_source.quoted import extension_called

RECOMMENDED: Final = re.compile(r"recommend|optional|suggest|advis|nice|prefer|warn", re.I)
_REQUIRED: Final = re.compile(r"requir|mandator|must|needed|necessary|essential|critical|minimum|depend", re.I)
_OF_EXTENSIONS: Final = re.compile(r"['\"](?:php_?)?ext(?:ension)?s?['\"]|extensions?\b|php_?(?:lib|mod)", re.I)
_PATTERN: Final = re.compile(r"\\|\[.*\]|\|")
_ABOUT: Final = re.compile(r"ext(?:ension|s\b|_|['\"])|modul|requir|recommend|optional|suggest|depend", re.I)


def named_lists(root: Node, places: Iterable[re.Match[bytes]]) -> Iterator[Check]:
    """The extensions of lists whose name says what they are.  ``places``: names of extensions in quotes."""
    seen: set[int] = set()
    for match in places:
        node = root.descendant_for_byte_range(match.start(1), match.end(1))
        if node is None or node.type != "string_content":
            continue
        array = nearest(node, "array_creation_expression")
        if array is not None and array.start_byte not in seen:
            seen.add(array.start_byte)
            yield from _of_named(array)


def _of_named(array: Node) -> Iterator[Check]:
    names: list[tuple[str, Node]] = []
    strings = 0
    for element in array.named_children:
        parts = [unwrapped(part) for part in element.named_children if part.type != "comment"]
        value = string(parts[0]) if element.type == "array_element_initializer" and parts else None
        if len(parts) > 1 and _PATTERN.search(string(parts[1]) or ""):
            continue  # of a route: ``'date' => '\\d+'``
        if len(parts) > 1 and parts[1] is not None and _is_answer(parts[1]):
            continue
        if value is None and len(parts) < 2:
            continue
        if value == "php":
            continue
        strings += 1
        if extension := extension_called((value or "").encode("utf-8", "replace")):
            names.append((extension, element))
    title = heading(array)[:MAX_TITLE]
    marked = b"'ext-" in (array.text or b"") or b'"ext-' in (array.text or b"")
    if (len(names) < 2 and not marked and not _OF_EXTENSIONS.search(title)) or len(names) < max(strings * 0.6, 1):
        return
    if not _ABOUT.search(title):
        return
    outcome = "listed-recommended" if RECOMMENDED.search(title) else ""
    outcome = outcome or ("listed-required" if _REQUIRED.search(title) else "asked")
    need_not = [outcome == "listed-required" and _NEED_NOT_BE.search(_value_of(element)) for _, element in names]
    if all(need_not):
        need_not = [None] * len(names)  # what all of them have is only what they begin with
    for (name, element), exempted in zip(names, need_not, strict=True):
        level = "listed-recommended" if exempted else outcome
        what = f"a list of extensions ({level.partition('-')[2] or 'named'})"
        yield Check(name, level, line(element), what)  # type: ignore[arg-type]


def _value_of(element: Node) -> str:
    """What the entry of a table has under its key, as it is written; empty: it has no key."""
    parts = [part for part in element.named_children if part.type != "comment"]
    return text(parts[1])[:MAX_VALUE] if len(parts) > 1 else ""


_NEED_NOT_BE: Final = re.compile(
    r"\A(?:false|0|['\"](?:optional|recommend\w*|suggest\w*|advis\w*)['\"])\Z|"
    r"['\"](?:required|mandatory)['\"]\s*=>\s*(?:false|0)\b|['\"]optional['\"]\s*=>\s*(?:true|1)\b|"
    r"['\"](?:level|severity|type|status)['\"]\s*=>\s*['\"](?:optional|recommend|suggest|advis)",
    re.I,
)
"""What exempts an extension in a table of those that are required: ``'zip' => false``, ``['required' => false]``"""


def _is_answer(value: Node) -> bool:
    """Whether it is what came of a check: ``'gd' => $gd ? 'fine' : 'wanted'``, ``['ok' => extension_loaded('gd')]``"""
    asked = value.type == "array_creation_expression" and _ASKING.search(value.text or b"") is not None
    return value.type == "conditional_expression" or asked


_ASKING: Final = re.compile(rb"(?:_exists|extension_loaded|version_compare)\s*\(", re.I)


def listed_at(extension: str, required: bool, where: Node) -> Check:
    outcome: Literal["listed-required", "listed-recommended"] = "listed-required" if required else "listed-recommended"
    return Check(extension, outcome, line(where), f"a list that has {extension}")


MAX_VALUE: Final = 400
"""Characters of what stands beside an extension in a table."""
MAX_TITLE: Final = 1000
"""Characters of what a list is called."""
