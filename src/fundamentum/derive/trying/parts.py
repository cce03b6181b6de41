"""One file's code in a form that is quick to go through again and again: each part of the tree is looked up once."""

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.imports import full_name, imports_in
from fundamentum.derive.php_source.nodes import Patience, parsed
from fundamentum.derive.php_source.source import parseable
from fundamentum.derive.php_source.word_search import places_where
from fundamentum.derive.trying.property_kinds import classes_of_properties

ASKING: Final = tuple(
    b"extension_loaded _exists php_version php_major phpversion get_loaded_extensions ini_get get_cfg_var is_callable "
    b"is_writ is_really_writ fileperms defined getavailabledrivers reflectionextension".split()
)
"""With what begins what asks something of the server, in lower case."""
_ASKS: Final = re.compile(rb"_exists\b|\bdefined\s*+\(|(?!_exists|defined)")
_GIVES: Final = re.compile(rb"(\$\w++)\s*+=(?![=>])")
_ADDS: Final = re.compile(
    rb"(\$\w++)\s*+(?:(?:\[[^\]\n]{0,60}\]\s*+)++=(?![=>])|\.=|\+\+|[+|&]=)|\+\+(\$\w++)|"
    rb"\barray_(?:push|unshift)\s*+\(\s*+(\$\w++)"
)
_COMMENT: Final = "comment"
_DEFINING: Final = frozenset({"class_declaration", "trait_declaration", "enum_declaration", "interface_declaration"})
_CALLS: Final = frozenset(
    {"function_call_expression", "member_call_expression", "scoped_call_expression", "nullsafe_member_call_expression"}
)
FUNCTIONS: Final = frozenset({"function_definition", "method_declaration", "anonymous_function", "arrow_function"})
_HOLDING: Final = frozenset({"namespace_definition", "compound_statement", "declaration_list", "program"})


def asking(lowered: bytes) -> Iterator[int]:
    """Where code in lower case asks something of the server, by its words."""
    return places_where(_ASKS, ASKING, lowered)


class Part:
    """One node of a file's tree."""

    def __init__(self, node: Node, file: "Code", above: "Part | None" = None) -> None:
        self.node, self.file, self.above = node, file, above
        self.type: str = node.type
        self.calls = self.type in _CALLS
        """Whether it calls something."""

    @cached_property
    def text(self) -> str:
        """Its source."""
        return self.node.text.decode("utf-8", "replace") if self.node.text else ""

    @cached_property
    def asks(self) -> bool:
        """Whether it asks something of the server, by its words."""
        return next(asking((self.node.text or b"").lower()), None) is not None

    @cached_property
    def kids(self) -> "Sequence[Part]":
        """The parts that it is made of, without comments and signs."""
        return [Part(node, self.file, self) for node in self.node.named_children if node.type != _COMMENT]

    @cached_property
    def fields(self) -> "Mapping[str, Part]":
        """Those that the grammar names; of several with one name the first."""
        Patience.tick()
        by_id = {kid.node.id: kid for kid in self.kids}
        parts: dict[str, Part] = {}
        for at, node in enumerate(self.node.children):
            name = self.node.field_name_for_child(at)
            if name is not None and name not in parts:
                parts[name] = by_id.get(node.id) or Part(node, self.file, self)
        return parts

    @cached_property
    def property_classes(self) -> "Mapping[str, str]":
        """Of a class: of which other class the objects are that it keeps in its properties."""
        return classes_of_properties(self.text)

    def get(self, name: str) -> "Part | None":
        """The part that the grammar names so."""
        return self.fields.get(name)

    @property
    def class_name(self) -> str:
        """The class that it names: the last part of its name in lower case, not what the file calls it by an import."""
        return full_name(self.text.lstrip("?"), self.file.imports).rpartition("\\")[2].lower()

    @property
    def function_above(self) -> "Part | None":
        """The function in which it stands."""
        part = self.above
        while part is not None and part.type not in FUNCTIONS:
            part = part.above
        return part

    @property
    def line(self) -> int:
        """The line that it begins on, from one."""
        return self.node.start_point[0] + 1

    @cached_property
    def sign(self) -> str:
        """The sign between the two sides of an expression, or before its only one."""
        named = self.get("operator")
        if named is not None:
            return named.text.lower()
        return next((node.type for node in self.node.children if not node.is_named), "")


class Code:
    """One file, parsed: its functions, classes and constants by name in lower case."""

    def __init__(self, path: str, data: bytes) -> None:
        """``RecursionError`` where it is not code as people write it, or parsing takes too long."""
        if not parseable(data):
            raise RecursionError("larger, or nested more deeply, than code is")
        self.path, self.data = path, data
        self.root = Part(parsed(data), self)
        self.functions: dict[str, Part] = {}
        self.classes: dict[str, Part] = {}
        self._take(self.root)

    @cached_property
    def imports(self) -> dict[str, str]:
        """Short name in lower case → full name, of the classes that it imports."""
        return imports_in(self.data)

    def _take(self, root: Part) -> None:
        """The definitions of a block, which hold from its beginning."""
        for part in root.kids:
            if part.type == "function_definition" and (name := part.get("name")) is not None:
                self.functions.setdefault(name.text.lower(), part)
            elif part.type in _DEFINING and (name := part.get("name")) is not None:
                self.classes.setdefault(name.text.lower(), part)
            elif part.type in _HOLDING:
                self._take(part)
            elif part.type == "if_statement" and (body := part.get("body")) is not None:
                self._take(body)  # if (!function_exists('x')) { function x() ... }

    @cached_property
    def _added(self) -> frozenset[str]:
        """The variables to which it gives something, or adds to: ``$name[] = ...``"""
        names = (match[1] or match[2] or match[3] for match in _ADDS.finditer(self.data))
        return frozenset(name.decode("utf-8", "replace") for name in names)

    @cached_property
    def given(self) -> frozenset[str]:
        """The variables that it gives something."""
        return frozenset(name.decode("utf-8", "replace") for name in _GIVES.findall(self.data))

    def adds_to(self, name: str) -> bool:
        """Whether it adds something to a variable."""
        return name in self._added

    def around(self, at: int) -> list[Part]:
        """The functions and methods around a byte of the file, the outermost first."""
        parts: list[Part] = []
        part: Part | None = self.root
        while part is not None:
            Patience.tick()
            if part.type in ("function_definition", "method_declaration"):
                parts.append(part)
            part = next((kid for kid in part.kids if kid.node.start_byte <= at < kid.node.end_byte), None)
        return parts
