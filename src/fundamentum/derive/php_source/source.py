"""One source file, parsed: what each interesting word in it stands for.

The grammar is that of a parser library; only the places where an interesting word stands are looked at, so that the
cost follows what is found, not the size of the tree of syntax.
"""

import re
from typing import Final

from tree_sitter import Node

from fundamentum.catalog.symbols import providers
from fundamentum.derive.php_source.nodes import Patience, field, parsed, text

CHECKS: Final = {
    "extension_loaded": "extension",
    "get_extension_funcs": "extension",
    "phpversion": "extension",
    "function_exists": "function",
    "is_callable": "function",
    "class_exists": "class",
    "interface_exists": "class",
    "method_exists": "class",
    "defined": "constant",
}
_IMPORT_KINDS: Final = {"function": "function", "const": "constant"}


class Names:
    """Which namespace a place is in, and what its short names stand for."""

    def __init__(self) -> None:
        self.spans: list[tuple[int, int, str]] = []
        self.imports: dict[tuple[str, str], str] = {}
        """(kind, alias in lower case) → full name."""
        self.spelled: dict[str, str] = {}
        """Full name in lower case → as the import has it."""

    def namespace(self, at: int) -> str:
        """The namespace of a place, in lower case without the last backslash."""
        return next((name for start, end, name in reversed(self.spans) if start <= at < end), "")

    def class_name(self, written: str, at: int) -> str:
        """The full name, in lower case, of a class as written at a place."""
        if written.startswith("\\"):
            return written[1:].lower()
        first, _, rest = written.lower().partition("\\")
        if first == "namespace":
            return f"{self.namespace(at)}\\{rest}".lstrip("\\")
        if imported := self.imports.get(("class", first)):
            return f"{imported}\\{rest}" if rest else imported
        space = self.namespace(at)
        return f"{space}\\{written.lower()}" if space else written.lower()

    def function_names(self, kind: str, written: str, at: int) -> tuple[str, str]:
        """What a function or constant may be: in its own namespace, else the global one (empty: cannot be global)."""
        if written.startswith("\\"):
            plain = written[1:]
            return plain.lower(), plain if "\\" not in plain else ""
        if "\\" in written:
            return self.class_name(written, at), ""
        if imported := self.imports.get((kind, written.lower())):
            return imported.lower(), imported if "\\" not in imported else ""
        space = self.namespace(at)
        return f"{space}\\{written.lower()}" if space else written.lower(), written


class Source:
    """A parsed file, with the questions that the rules ask of it.

    ``RecursionError`` where it is not code as people write it, or answering takes too long.
    """

    def __init__(self, data: bytes) -> None:
        if not parseable(data):
            raise RecursionError("larger, or nested more deeply, than code is")
        self.data = data
        self.root = parsed(data)
        Patience.begin()
        self.names = Names()
        self._read_top(self.root, 0, len(data))

    @property
    def broken(self) -> bool:
        """Whether something in the file does not parse."""
        return self.root.has_error

    def at(self, start: int, end: int) -> Node | None:
        """The smallest node that holds these bytes."""
        Patience.tick()
        return self.root.descendant_for_byte_range(start, end)

    def called(self, call: Node) -> str:
        """The name of the global function that a call may mean, in lower case."""
        function = field(call, "function")
        if function is None or function.type not in ("name", "qualified_name"):
            return ""
        return self.names.function_names("function", text(function), call.start_byte)[1].lower()

    def _read_top(self, parent: Node, start: int, end: int) -> None:
        """Namespaces and imports stand at the top level only."""
        for child in parent.children:
            kind = child.type
            if kind == "namespace_definition":
                name = field(child, "name")
                space = text(name).lower() if name else ""
                body = field(child, "body")
                if body is not None:
                    self.names.spans.append((body.start_byte, body.end_byte, space))
                    self._read_top(body, body.start_byte, body.end_byte)
                else:
                    self.names.spans.append((child.end_byte, end, space))
            elif kind == "namespace_use_declaration":
                self._read_use(child)

    def _read_use(self, declaration: Node) -> None:
        kind = "class"
        prefix = ""
        for child in declaration.children:
            if child.type in _IMPORT_KINDS:
                kind = _IMPORT_KINDS[child.type]
            elif child.type == "namespace_name":
                prefix = text(child) + "\\"
            elif child.type == "namespace_use_clause":
                self._read_clause(child, kind, "")
            elif child.type == "namespace_use_group":
                for clause in child.named_children:
                    self._read_clause(clause, kind, prefix)

    def _read_clause(self, clause: Node, kind: str, prefix: str) -> None:
        alias = field(clause, "alias")
        name = ""
        for child in clause.children:
            if child.type in _IMPORT_KINDS:
                kind = _IMPORT_KINDS[child.type]
            elif child.type in ("name", "qualified_name", "namespace_name") and not name:
                name = text(child)
        full = (prefix + name).lstrip("\\")
        short = text(alias) if alias is not None else full.rpartition("\\")[2]
        self.names.spelled[full.lower()] = full
        if kind == "constant":
            self.names.imports[kind, short.lower()] = full
        else:
            self.names.imports[kind, short.lower()] = full.lower()


MAX_TOKENS: Final = 900_000
"""Words and signs of one file that is parsed: each takes about 250 bytes of memory."""
MAX_OPEN: Final = 1000
"""Brackets that are open at once."""
_TOKEN: Final = re.compile(rb"\w+|[^\s\w]")
_NESTING: Final = bytes(byte for byte in range(256) if byte not in b"(){}[]")


def parseable(data: bytes) -> bool:
    """Whether a file is code as people write it, rather than one made to keep its reader busy."""
    brackets = data.translate(None, _NESTING)
    depth = deepest = 0
    for byte in brackets if sum(map(brackets.count, b"({[")) > MAX_OPEN else b"":
        depth += 1 if byte in b"({[" else -1 if depth else 0
        deepest = max(deepest, depth)
    if deepest > MAX_OPEN:
        return False
    return len(data) < MAX_TOKENS // 2 or sum(1 for _ in _TOKEN.finditer(data)) <= MAX_TOKENS


def provided(kind: str, name: str) -> tuple[str, ...]:
    """The extensions that provide a symbol."""
    symbols = providers(kind, name)  # type: ignore[arg-type]
    return tuple(dict.fromkeys(symbol.extension for symbol in symbols))


class Reference:
    """What a word in code stands for."""

    __slots__ = ("defines", "kind", "name", "node", "own", "weak")

    def __init__(
        self, kind: str, name: str, own: str, node: Node, *, weak: bool = False, defines: bool = False
    ) -> None:
        self.kind, self.name, self.own, self.node = kind, name, own, node
        self.weak, self.defines = weak, defines


_CLASS_PLACES: Final = frozenset(
    {"object_creation_expression", "scoped_call_expression", "scoped_property_access_expression",
     "class_constant_access_expression", "base_clause", "class_interface_clause"}
)  # fmt: skip
_WEAK_PLACES: Final = frozenset(
    {"named_type", "optional_type", "union_type", "intersection_type", "disjunctive_normal_form_type", "type_list",
     "attribute", "use_as_clause", "use_instead_of_clause"}
)  # fmt: skip
_DEFINITIONS: Final = {
    "function_definition": "function",
    "class_declaration": "class",
    "interface_declaration": "class",
    "trait_declaration": "class",
    "enum_declaration": "class",
}
_NOT_EXPRESSIONS: Final = frozenset(
    {"method_declaration", "const_element", "member_access_expression", "nullsafe_member_access_expression",
     "member_call_expression", "nullsafe_member_call_expression", "named_label_statement", "goto_statement",
     "namespace_definition", "namespace_name", "namespace_use_clause", "namespace_use_group", "enum_case",
     "property_element", "variable_name", "cast_type", "primitive_type", "declare_directive",
     "namespace_use_declaration", "property_hook", "use_declaration"}
)  # fmt: skip


def reference(source: Source, node: Node) -> Reference | None:
    """What the name at a node stands for, if it can be something that an extension provides."""
    if node.type != "name":
        return None
    place = node.parent
    if place is None:
        return None
    target = node
    if place.type == "namespace_name" and place.parent is not None and place.parent.type == "qualified_name":
        target, place = place.parent, place.parent.parent or place.parent
    elif place.type == "qualified_name":
        target, place = place, place.parent or place
    at = node.start_byte
    written = text(target)
    kind = place.type
    if kind == "function_call_expression":
        if field(place, "function") != target:
            return None
        own, plain = source.names.function_names("function", written, at)
        name = plain.lower() or (own if provided("function", own) else "")  # some extensions' have a namespace
        return Reference("function", name, own, place) if name else None
    if kind in _DEFINITIONS:
        if field(place, "name") != target:
            return None
        space = source.names.namespace(at)
        full = f"{space}\\{written.lower()}" if space else written.lower()
        return Reference(_DEFINITIONS[kind], full, full, place, defines=True)
    if kind in _CLASS_PLACES:
        if kind not in ("object_creation_expression", "base_clause", "class_interface_clause"):
            scope = field(place, "scope") or place.children[0]
            if scope != target:
                return None
        if kind == "class_constant_access_expression":
            constant = text(place.children[-1])
            full = source.names.class_name(written, at)
            if full == "pdo" and provided("constant", f"PDO::{constant}"):
                return Reference("constant", f"PDO::{constant}", "", place)
            return Reference("class", full, full, place, weak=constant.lower() == "class")
        full = source.names.class_name(written, at)
        return Reference("class", full, full, place)
    if kind in _WEAK_PLACES or (kind == "binary_expression" and _is_instanceof(place, target)):
        full = source.names.class_name(written, at)
        return Reference("class", full, full, place, weak=True)
    if kind in _NOT_EXPRESSIONS or (kind == "argument" and field(place, "name") == target):
        return None
    own, plain = source.names.function_names("constant", written, at)
    return Reference("constant", plain, own, target) if plain else None


def _is_instanceof(expression: Node, target: Node) -> bool:
    operator = field(expression, "operator")
    return operator is not None and operator.type == "instanceof" and field(expression, "right") == target
