"""What holds PHP's version in one file: constants of PHP, variables, properties, functions that return it."""

import re
from collections.abc import Iterator, Sequence
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.evaluation import Cases, cases_of
from fundamentum.derive.php_source.nodes import Patience, arguments, called, field, parent_of, string, text, walked
from fundamentum.derive.php_source.scalars import Value
from fundamentum.derive.statements.branches import function_of
from fundamentum.derive.statements.kept import kept_list

SPEAKING: Final = re.compile(rb"PHP_VERSION|phpversion|PHP_MAJOR_VERSION")
Version = tuple[int, int, int]
NAMED: Final = frozenset(
    {"name", "qualified_name", "variable_name", "member_access_expression", "scoped_property_access_expression",
     "class_constant_access_expression", "subscript_expression"}
)  # fmt: skip
"""Expressions under which a value may be kept."""
CALLS: Final = frozenset({"function_call_expression", "member_call_expression", "scoped_call_expression"})
_HOLDING: Final = frozenset({"variable_name", "member_access_expression", "scoped_property_access_expression"})
MAX_HELD: Final = 40
"""Names in one file that hold a version: each of them is looked for everywhere in it."""
_ANY: Final[tuple[Version, ...]] = ((7, 4, 0), (8, 1, 0))
_PARTS: Final[dict[str, int]] = {"PHP_MAJOR_VERSION": 0, "PHP_MINOR_VERSION": 1, "PHP_RELEASE_VERSION": 2}


def _constant(name: str, versions: Sequence[Version]) -> Cases | None:
    """What one of PHP's own constants is in each version."""
    if name in _PARTS:
        return tuple(version[_PARTS[name]] for version in versions)
    if name == "PHP_VERSION_ID":
        return tuple(major * 10000 + minor * 100 + patch for major, minor, patch in versions)
    return tuple("{}.{}.{}".format(*version) for version in versions) if name == "PHP_VERSION" else None


class HeldVersions:
    """The expressions of one file that hold PHP's version or a part of it."""

    def __init__(self, root: Node, data: bytes) -> None:
        self.root, self.data = root, data
        self.given: dict[tuple[int, str], tuple[Node, int | None]] = {}
        """Function and name → the expression that it is given, and the member of that."""
        self.returned: dict[str, Node] = {}
        self._asked: set[int] = set()
        for _ in range(2):  # what is given to a variable may be given on to another
            for place in [*self.places()]:
                if len(self.given) + len(self.returned) < MAX_HELD:
                    self._keep(place)

    def places(self) -> Iterator[Node]:
        """Where the version stands, in order."""
        names = {re.escape(name.encode("utf-8", "replace")) for _, name in self.given}
        functions = {re.escape(name.encode("utf-8", "replace")) for name in self.returned}
        spoken = [SPEAKING.pattern, *(name + rb"(?!\w)" for name in names)]
        spoken += [rb"(?<!function )\b" + name + rb"(?=\s*\(\s*\))" for name in functions]
        for match in re.finditer(b"|".join(spoken), self.data, re.I if functions else 0):
            node = self.root.descendant_for_byte_range(match.start(), match.end())
            for _ in range(5):
                Patience.tick()
                if node is None or self.cases(node, _ANY) is not None:
                    break
                node = node.parent
            if node is not None and self.cases(node, _ANY) is not None:
                yield node

    def _keep(self, place: Node) -> None:
        at = place
        while at.parent is not None and not at.type.endswith("_statement") and at.type != "assignment_expression":
            Patience.tick()
            at = at.parent
        left, right = field(at, "left"), field(at, "right")
        if at.type == "return_statement" and at.named_children:
            function = function_of(at)
            returns = sum(node.type == "return_statement" for node in walked(function))
            if function.type != "program" and returns == 1:
                self.returned[text(field(function, "name")).lower()] = at.named_children[0]
        elif at.type == "assignment_expression" and left is not None and right is not None:
            names = [left] if left.type in _HOLDING else left.named_children if left.type == "list_literal" else []
            for number, name in enumerate(names):
                if name.type in _HOLDING:
                    self.given.setdefault(_key(name), (right, None if name == left else number))

    def cases(self, node: Node, versions: Sequence[Version]) -> Cases | None:
        """What a node comes to in each version, if that is known without what stands around it."""
        named = node.type in ("name", "qualified_name")
        if named and (known := _constant(text(node).lstrip("\\"), versions)) is not None:
            return known
        name, given = called(node), arguments(node) if called(node) else []
        if name == "phpversion" and not given:
            return _constant("PHP_VERSION", versions)
        if name == "constant" and len(given) == 1:
            return _constant(string(given[0]) or "", versions)
        if name == "defined" and len(given) == 1 and (string(given[0]) or "").startswith("PHP_"):
            return (True,) * len(versions)
        if name and not given and name in self.returned:
            return self._of(self.returned[name], None, versions)
        if (
            node.type in NAMED
            and (_asked_whether_in(node) or _asked_for_member(node))
            and (kept_there := kept_list(text(node), self.root))
        ):
            return cases_of(kept_there, lambda _: None, len(versions))
        if node.type in _HOLDING and (kept := self.given.get(_key(node))) is not None:
            return self._of(*kept, versions) if node.start_byte > kept[0].start_byte else None
        return None

    def _of(self, node: Node, member: int | None, versions: Sequence[Version]) -> Cases | None:
        """What an expression comes to that is given to a name; None where it is told by that name itself."""
        if node.id in self._asked:
            return None
        self._asked.add(node.id)
        try:
            told = cases_of(node, lambda inner: self.cases(inner, versions), len(versions))
        finally:
            self._asked.remove(node.id)
        if member is not None:
            told = tuple(_part(value, member) for value in told)
        # A truth value that is kept is followed from where it was asked for.
        return None if all(value is None or isinstance(value, bool) for value in told) else told


def _part(value: Value, member: int) -> Value:
    return value[member] if isinstance(value, list) and len(value) > member else None


def _asked_whether_in(node: Node) -> bool:
    """``in_array(..., SUPPORTED)``"""
    above = parent_of(node, 3)
    return called(above) == "in_array"


def _asked_for_member(node: Node) -> bool:
    """``NEEDED[0]``"""
    constant = node.type in ("name", "class_constant_access_expression")
    member = parent_of(node) if constant else None
    return member is not None and member.type == "subscript_expression" and member.child(0) == node


def _key(name: Node) -> tuple[int, str]:
    """A variable is one of its function, a property of the whole file."""
    return function_of(name).id if name.type == "variable_name" else 0, text(name)
