"""Variables, properties and members of lists: read, given a value, shared."""

from collections.abc import Iterator
from typing import Any

from fundamentum.derive.statements.outcomes import COLLECTORS
from fundamentum.derive.trying.directories import HERE, of_root
from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.memory import Cell
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.property_kinds import given_in
from fundamentum.derive.trying.values import (
    UNKNOWN,
    Array,
    Instance,
    Kind,
    Loaded,
    OneOf,
    Unknown,
    as_key,
    joined,
    lifted,
)


def _places(target: Part) -> Iterator[int]:
    """The places of the members that ``list(, $second)`` takes: some may be passed over."""
    at = 0
    for node in target.node.children:
        at += node.type == ","
        if node.is_named and node.type != "comment":
            yield at


def member(holder: Any, key: Any) -> Any:
    """What stands under a key of a list, or at a place of a text; unknown where that may be anything."""
    if isinstance(holder, Array):
        at = as_key(key)
        if at in holder.items:
            return holder.items[at]
        return UNKNOWN if holder.loose else None
    if isinstance(holder, str) and isinstance(key, int):
        return holder[key] if -len(holder) <= key < len(holder) else UNKNOWN
    return None if holder is None else UNKNOWN


class Targets(Machine):
    """The layer that holds values."""

    def variable(self, name: str) -> Cell:
        """Where a variable of the function around is held."""
        scope = self.frame.scope
        if name not in scope:
            scope[name] = Cell(self.frame.unset)
        return scope[name]

    def global_variable(self, name: str) -> Cell:
        """Where a variable of the program's own code is held."""
        return self.globals.setdefault(name, Cell(UNKNOWN))

    def read(self, part: Part) -> Any:
        """What a variable, a property or a member of a list holds."""
        if part.type == "subscript_expression":
            kids = part.kids
            if kids[0].text == "$GLOBALS" and (cell := self.cell(part)) is not None:
                return cell.value
            holder = self.evaluate(kids[0])
            if len(kids) < 2:
                return UNKNOWN
            key = self.evaluate(kids[1])
            if isinstance(holder, Loaded):
                return self.world.held(self, holder, key) or None
            if isinstance(holder, Instance):
                return self.call_method(holder, "offsetGet", Given.of(key))
            if isinstance(key, Unknown) and isinstance(holder, Array) and not holder.loose and holder.items:
                return joined([*holder.values(), UNKNOWN])
            if isinstance(holder, str):
                self.world.looks.given("", (holder,))
            return lifted(member, holder, key)
        if part.type == "variable_name" and part.text == "$this":
            return self.frame.this if self.frame.this is not None else UNKNOWN
        cell = self.cell(part)
        return cell.value if cell is not None else UNKNOWN

    def looked_up(self, part: Part | None) -> Any:
        """The same for ``??`` and ``isset``, which take what is not there for null."""
        return self.evaluate(part)

    def cell(self, part: Part | None) -> Cell | None:
        """Where the value of an expression is held; None: nowhere that is known."""
        if part is None:
            return None
        if part.type == "by_ref":
            return self.cell(part.kids[0])
        if part.type == "variable_name":
            return self.variable(part.text)
        if part.type == "subscript_expression" and part.kids[0].text == "$GLOBALS" and len(part.kids) > 1:
            name = self.evaluate(part.kids[1])
            return self.global_variable(f"${name}") if isinstance(name, str) else None
        if part.type == "dynamic_variable_name":
            name = self.evaluate(part.kids[0])
            return self.variable(f"${name}") if isinstance(name, str) else None
        if part.type.endswith("member_access_expression"):
            holder, name = self.evaluate(part.get("object")), self._member_name(part.get("name"))
            return self.property_of(holder, name) if isinstance(holder, Instance) and name else None
        if part.type == "scoped_property_access_expression":
            kind = self.kind_at(part.get("scope"))
            name = part.get("name")
            return self.static_of(kind, name.text) if kind is not None and name is not None else None
        return None

    def _member_name(self, part: Part | None) -> str:
        if part is None:
            return ""
        if part.type == "name":
            return part.text
        told = self.evaluate(part)
        return told if isinstance(told, str) else ""

    def property_of(self, instance: Instance, name: str) -> Cell:
        """Where a property of an object is held."""
        if name not in instance.members:
            instance.members[name] = Cell(self._default(instance, name), instance.born)
        return instance.members[name]

    def _default(self, instance: Instance, name: str) -> Any:
        """What a property is that nothing was given to: as its class says, if the program made the object itself."""
        for kind in instance.kind.line():
            if f"${name}" in kind.defaults:
                default = kind.defaults[f"${name}"]
                value = self.evaluate(default) if default is not None else None
                # Before anything is wrong, nothing is in it.
                collects = (value == Array() or value == 0) and COLLECTORS.search(name)
                told = instance.made or collects or value not in (None, False, "", 0, Array())
                return value if told else self._kept(instance, name)
        method, owner = self.method(instance.kind, "__get")
        if method is not None:
            return self.call_part(method, Given.of(name), instance, owner)
        return None if instance.made and instance.kind.whole else self._kept(instance, name)

    def _kept(self, instance: Instance, name: str) -> Any:
        """What an object that the program did not make itself has in a property: one of the class that is said."""
        if instance.made:
            return UNKNOWN
        for kind in instance.kind.line():
            said = kind.part.property_classes.get(name, "") if kind.part is not None else ""
            if said and (of := self.kind_of(said)) is not None:
                return Instance(of, made=False)
            constructor = kind.methods.get("__construct")
            if constructor is not None and (given := given_in(constructor, name)) is not None:
                return self.within(kind, given)
        return HERE if of_root(name) else UNKNOWN

    def static_of(self, kind: Kind, name: str) -> Cell | None:
        """Where a static property of a class is held."""
        for ancestor in kind.line():
            if name in ancestor.statics:
                return ancestor.statics[name]
            if name in ancestor.defaults:
                default = ancestor.defaults[name]
                ancestor.statics[name] = Cell(self.evaluate(default) if default is not None else None)
                return ancestor.statics[name]
        return None

    def kind_at(self, scope: Part | None) -> Kind | None:
        """The class that stands before ``::``."""
        if scope is None:
            return None
        name = scope.class_name
        own = self.frame.kind
        if name == "static" and self.frame.this is not None:
            return self.frame.this.kind
        if name in ("self", "static"):
            return own
        if name == "parent":
            return own.base if own is not None else None
        if scope.type in ("name", "qualified_name"):
            return self.kind_of(name)
        told = self.evaluate(scope)
        if isinstance(told, Instance):
            return told.kind
        return self.kind_of(told.rpartition("\\")[2].lower()) if isinstance(told, str) else None

    def assign(self, target: Part | None, value: Any) -> None:
        """Give a value to what an expression stands for."""
        if target is None:
            return
        self.step(target)
        if target.type in ("list_literal", "array_creation_expression"):
            self._take_apart(target, value)
        elif target.type == "subscript_expression" and target.kids[0].text != "$GLOBALS":
            self._put_into(target, value)
        elif (cell := self.cell(target)) is not None:
            self.memory.write(cell, value)

    def bind(self, target: Part | None, cell: Cell) -> None:
        """Let a variable share what another one holds."""
        if target is not None and target.type == "variable_name":
            self.frame.scope[target.text] = cell
        elif target is not None:
            self.assign(target, cell.value)

    def _put_into(self, target: Part, value: Any) -> None:
        """``$list[] = $value;``, ``$table['a']['b'] = $value;``"""
        kids = target.kids
        key = self.evaluate(kids[1]) if len(kids) > 1 else None
        source = self.evaluate(kids[0])
        if isinstance(key, Loaded) or (isinstance(value, Loaded) and len(kids) == 1):
            listed = key if isinstance(key, Loaded) else value
            self.assign(kids[0], Loaded(listed.kind, flipped=listed is key, absent=listed.absent))
            return
        if isinstance(source, Instance):
            self.call_method(source, "offsetSet", Given.of(key, value))
        if isinstance(source, OneOf):
            self.assign(kids[0], joined(self._with(entry, key, value, bool(kids[1:])) for entry in source.values))
        elif isinstance(source, Unknown) and len(kids) == 1:
            self.assign(kids[0], Array({0: value}, loose=True))
        elif not isinstance(source, (Unknown, Instance)):
            self.assign(kids[0], self._with(source, key, value, bool(kids[1:])))

    def _with(self, holder: Any, key: Any, value: Any, named: bool) -> Any:
        if not isinstance(holder, Array):
            holder = Array()
        return holder.with_item("" if named and key is None else key, value)

    def _take_apart(self, target: Part, value: Any) -> None:
        """``[$a, 'k' => $b] = $value;``"""
        kids = target.kids
        at = 0
        if target.type == "array_creation_expression":
            for number, element in enumerate(kids):
                inner = element.kids
                key = self.evaluate(inner[0]) if len(inner) > 1 else number
                self._take_of_row(inner[-1] if inner else None, value, key)
            return
        signs = [node.type for node in target.node.children]
        keyed = "=>" in signs
        places = iter(_places(target))
        while at < len(kids):
            key = self.evaluate(kids[at]) if keyed else next(places)
            at += keyed
            self._take_of_row(kids[at] if at < len(kids) else None, value, key)
            at += 1

    def _take_of_row(self, target: Part | None, row: Any, key: Any) -> None:
        self.assign(target, lifted(member, row, key))
        if isinstance(row, Array) and target is not None and target.type == "variable_name":
            self.taken_from[self.variable(target.text)] = row
