"""Lists of extensions in a program: what they name, and those that are called after what they are.

``$requiredExtensions = ['intl', 'gd'];``
"""

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import Final, Literal

from msgspec.structs import replace
from tree_sitter import Node

from fundamentum.catalog.symbols import EVERYWHERE
from fundamentum.derive.php_source.facts import Check
from fundamentum.derive.php_source.nodes import (
    ancestors,
    arguments,
    around,
    called,
    field,
    heading,
    line,
    nearest,
    string,
    text,
    unwrapped,
    walked,
)
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.derive.php_source.source import provided
from fundamentum.derive.statements.host_functions import stands_for
from fundamentum.derive.statements.kept import added_to, first_given, kept_list, kept_part, plain_name, text_of
from fundamentum.derive.statements.loops import outermost

RECOMMENDED: Final = re.compile(r"recommend|optional|suggest|advis|nice|prefer|warn", re.I)
_REQUIRED: Final = re.compile(r"requir|mandator|must|needed|necessary|essential|critical|minimum", re.I)
_OF_EXTENSIONS: Final = re.compile(r"['\"](?:php_?)?ext(?:ension)?s?['\"]|\$?\w*extensions?\b", re.I)
_PATTERN: Final = re.compile(r"\\|\[.*\]|\|")
_ABOUT: Final = re.compile(r"ext(?:ension|s\b|_)|modul|requir|recommend|optional|depend", re.I)


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
    names: list[tuple[str, int]] = []
    strings = 0
    for element in array.named_children:
        parts = [unwrapped(part) for part in element.named_children if part.type != "comment"]
        value = string(parts[0]) if element.type == "array_element_initializer" and parts else None
        if len(parts) > 1 and _PATTERN.search(string(parts[1]) or ""):
            continue  # of a route: ``'date' => '\\d+'``
        if value is None and len(parts) < 2:
            continue
        strings += 1
        if found := extension_called((value or "").encode("utf-8", "replace")):
            names.append((found, line(element)))
    title = heading(array)[:MAX_TITLE]
    if (len(names) < 2 and not _OF_EXTENSIONS.search(title)) or len(names) < max(strings * 0.6, 1):
        return
    if not _ABOUT.search(title):
        return
    outcome = "listed-recommended" if RECOMMENDED.search(title) else ""
    outcome = outcome or ("listed-required" if _REQUIRED.search(title) else "asked")
    what = f"a list of extensions ({outcome.partition('-')[2] or 'named'})"
    for name, where in names:
        yield Check(name, outcome, where, what, list_name=_own_name(array))  # type: ignore[arg-type]


def _own_name(array: Node) -> str:
    """The key, variable, property or constant that a list is given to."""
    for above, child in ancestors(array):
        if above.type == "array_element_initializer" and above.named_children[0] != child:
            return string(above.named_children[0]) or ""
        if above.type in ("assignment_expression", "property_element", "const_element"):
            return plain_name(text(above.children[0]))
    return ""


def listed_at(extension: str, required: bool, where: Node) -> Check:
    outcome: Literal["listed-required", "listed-recommended"] = "listed-required" if required else "listed-recommended"
    return Check(extension, outcome, line(where), f"a list that has {extension}")


def named_in(given: Sequence[Node], kind: str, root: Node, *, listed: bool) -> Iterator[Check]:
    """The extensions that the first argument names: itself, as the member that a loop has come to, or as a list.

    ``given``: that argument and those behind it; ``listed``: all of them count.
    """
    for one in given if listed else given[:1]:
        source, of_list = outermost(one.named_children[0] if one.type == "variadic_unpacking" else one)
        if of_list or (listed and string(source) is None) or source.type == "array_creation_expression":
            yield from (check for check in members(source, root, True, kind) if check.extension)
        elif extension := meant(text_of(source, root), kind):
            yield listed_at(extension, True, source)


MAX_NAME: Final = 200
"""Characters of a file that is included."""
MAX_TITLE: Final = 1000
"""Characters of what a list is called."""
MAX_DEPTH: Final = 6
"""Lists that are put together of others."""


def members(source: Node, root: Node, required: bool, kind: str = "extension", depth: int = 0) -> Iterator[Check]:
    """The names in a list, written there or kept under a name in the same file."""
    where = unwrapped(source)
    if where is not None and where.type == "assignment_expression":
        where = field(where, "right")
    if where is None or depth > MAX_DEPTH:
        return
    if where.type == "array_creation_expression":
        yield from of_array(where, required, kind, root, depth)
        return
    parts = _put_together(where)
    if parts:
        for part in parts:
            yield from members(part, root, required, kind, depth + 1)
        return
    if where.type in _INCLUDES and (file := _FILE.search(text(where)[-MAX_NAME:])):
        yield replace(listed_at("", required, source), list_name=file[1])
        return
    if called(where) in _SPLITTING and kind == "extension":
        given = arguments(where)[_SPLITTING[called(where)] :][:1]
        names = [name for one in given for name in _SEPARATED.split(text_of(one, root))]
        yield from (listed_at(found, required, where) for name in names if (found := meant(name, kind)))
        return
    if called(where) == "cases":
        yield from _of_cases(_enumeration(where.named_children[0]), root, required, kind)
        return
    yield from _of_name(where, root, required and not RECOMMENDED.search(plain_name(text(where))), kind, depth)


def _of_name(where: Node, root: Node, required: bool, kind: str, depth: int) -> Iterator[Check]:
    """The names in a list that is kept under a name or a key of the same file; else that it stands elsewhere."""
    name = plain_name(text(where))
    under_key = kept_part(where, root)
    listed_there = under_key is not None and under_key.type == "array_creation_expression"
    array = under_key if listed_there else kept_list(name, root)
    kept = first_given(name, root) if _WORD.fullmatch(name) else None
    if kept is not None and (kept.type in _INCLUDES or _put_together(kept) or called(kept) in _SPLITTING):
        yield from members(kept, root, required, kind, depth + 1)
    elif array is not None:
        yield from of_array(array, required, kind, root, depth)
        for more in added_to(name, root) if not listed_there else ():
            if found := meant(string(more) or "", kind):
                chosen = nearest(more, "if_statement", "case_statement", "function_definition", "method_declaration")
                always = chosen is None or chosen.type not in ("if_statement", "case_statement")
                yield listed_at(found, required and always, more)
    elif kind == "extension" and (known := _KEY.search(name) or _WORD.fullmatch(name)):
        yield replace(listed_at("", required, where), list_name=known[1])


_OF_LISTS: Final = frozenset(
    "array_flip array_values array_unique array_keys array_merge array_map array_filter array_replace".split()
)
"""Functions of which the result has the names that are in the lists which they are given."""
_COLLECTION: Final = re.compile(
    r"(?:new\s+)?\\?(?:\w+\\)*(?:collect|Collection::make|Collection|ArrayObject|ArrayIterator)\("
)
"""Objects that are made of a list."""
_INCLUDES: Final = frozenset(
    {"include_expression", "include_once_expression", "require_expression", "require_once_expression"}
)
_FILE: Final = re.compile(r"([\w.-]+\.(?:php|inc))['\"]\)?$")
_LISTING: Final = frozenset(
    {"array_creation_expression", "variable_name", "member_access_expression", "class_constant_access_expression",
     "scoped_property_access_expression", "function_call_expression", "subscript_expression", "name"}
)  # fmt: skip


def _put_together(where: Node) -> list[Node]:
    """The lists that an expression is made of: ``array_merge($base, ['gd'])``, ``$base + $more``."""
    if _COLLECTION.match(text(where)) or (called(where) in _OF_LISTS and where.type == "function_call_expression"):
        return [one for one in arguments(where) if one.type in _LISTING]
    if where.type == "binary_expression" and text(field(where, "operator")) == "+":
        sides = (unwrapped(field(where, side)) for side in ("left", "right"))
        return [side for side in sides if side is not None]
    return []


def _enumeration(scope: Node) -> str:
    """The name of the enumeration of which the cases are asked for; ``self`` is the one around."""
    if text(scope).lower() in ("self", "static"):
        around_it = nearest(scope, "enum_declaration")
        return text(field(around_it, "name")) if around_it is not None else ""
    return text(scope)


def _of_cases(enumeration: str, root: Node, required: bool, kind: str) -> Iterator[Check]:
    """The values of an enumeration of the same file: ``enum Needed: string { case Intl = 'intl'; }``"""
    named = re.compile(rb"enum\s+%s\b" % re.escape(enumeration.encode("utf-8", "replace")))
    for found in around(root, root.text or b"", named, ("enum_declaration",)):
        for case in walked(found):
            value = string(case.named_children[-1]) if case.type == "enum_case" else None
            if value and (extension := meant(value, kind)):
                yield listed_at(extension, required, case)


_KEY: Final = re.compile(r"\[['\"](\w+)['\"]\]\Z")
_WORD: Final = re.compile(r"(\w+)")


_SPLITTING: Final = {"explode": 1, "preg_split": 1, "mb_split": 1, "str_getcsv": 0, "json_decode": 0}
"""Functions that split a text, and which of their arguments that is."""
_SEPARATED: Final = re.compile(r"[\s,;|:\"'\[\]{}]+")


def of_array(array: Node, required: bool, kind: str, root: Node, depth: int = 0) -> Iterator[Check]:
    """Names, names with a level, or lists under the words for levels."""
    for element in (node for node in array.named_children if node.type == "array_element_initializer"):
        parts = [unwrapped(node) for node in element.named_children]
        key = string(parts[0]) if len(parts) == 2 else None
        value = parts[-1]
        if value is not None and value.type == "cast_expression":  # (object) ['name' => 'intl']
            value = field(value, "value")
        level = required
        if key and (found := meant(key, kind)):
            said = text(value)
            level = required and said.lower() not in ("false", "0") and not RECOMMENDED.search(said)
            level = level or bool(_REQUIRED.search(said)) or said.lower() == "true"
            level = level and not (value is not None and value.named_children and _left_open(value))
            yield listed_at(found, level, element)
        elif value is not None and value.type == "array_creation_expression":
            if key:
                level = bool(_REQUIRED.search(key)) or (required and not RECOMMENDED.search(key))
            yield from of_array(value, level and not _left_open(value), kind, root, depth)
        elif value is not None and value.type == "variadic_unpacking":
            yield from members(value.named_children[0], root, required, kind, depth + 1)
        elif value is not None and value.type == "object_creation_expression":
            yield from _of_object(value, required, kind)
        elif value is not None and (found := meant(_class_named(value) or _constant(value, root), kind)):
            yield listed_at(found, level, element)


def _of_object(made: Node, required: bool, kind: str) -> Iterator[Check]:
    """``new Requirement('curl', Requirement::OPTIONAL)``"""
    for found in filter(None, (meant(string(one) or "", kind) for one in arguments(made))):
        yield listed_at(found, required and not RECOMMENDED.search(text(made)), made)
        return


def _constant(value: Node, root: Node) -> str:
    """The text of a string, or of a constant: ``self::INTL``"""
    named = value.type in ("class_constant_access_expression", "name")
    return text_of(value, root) if named else string(value) or ""


def _class_named(value: Node | None) -> str:
    """``ZipArchive`` of ``ZipArchive::class``"""
    written = text(value)
    return written.removesuffix("::class") if written.endswith("::class") else ""


_LEFT_OPEN: Final = re.compile(
    r"['\"](?:is_?)?optional['\"]\s*=>\s*(?:true|1)\b|['\"](?:is_?)?(?:required|mandatory)['\"]\s*=>\s*(?:false|0)\b",
    re.I,
)
"""What an entry of a table says of one that need not be there."""


_LEVEL_NAME: Final = re.compile(r"['\"]?[\w\\]+(?:::\w+)?['\"]?")
"""``WARNING``, ``Level::OPTIONAL``, ``'recommended'``"""


def _left_open(entry: Node) -> bool:
    """Whether an entry of a table says so: by a key, or as ``['apcu', 'APCu', false]``."""
    plain = [one.named_children for one in entry.named_children if one.type == "array_element_initializer"]
    told = [text(parts[0]) for parts in plain if len(parts) == 1]
    return _LEFT_OPEN.search(text(entry)[:400]) is not None or any(
        one.lower() == "false" or (_LEVEL_NAME.fullmatch(one) and RECOMMENDED.search(one)) for one in told
    )


def meant(name: str, kind: str) -> str:
    """The extension that a name in a list stands for: its own, or that of a function or class which only it has.

    For a function that hosts switch off, what ``host_functions`` has in its place.
    """
    if kind in ("extension", "driver"):
        return extension_called(f"{'pdo_' if kind == 'driver' else ''}{name}".encode("utf-8", "replace"))
    if kind == "function" and (host := stands_for(name)):
        return host
    own = provided(kind, name.lstrip("\\"))
    return own[0] if len(own) == 1 and own[0] not in EVERYWHERE else ""
