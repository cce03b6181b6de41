"""Objects, methods and classes of a program that is tried out."""

from typing import Any, Final

from fundamentum.derive.php_source.imports import full_name
from fundamentum.derive.php_source.source import provided
from fundamentum.derive.trying.calls import Calls
from fundamentum.derive.trying.changing import change
from fundamentum.derive.trying.expressions import reads
from fundamentum.derive.trying.machine import MAX_CALLS, Frame, Given, Leave
from fundamentum.derive.trying.memory import Cell
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.values import (
    UNKNOWN,
    Array,
    BoundMethod,
    Closure,
    Instance,
    Kind,
    OneOf,
    Unknown,
    joined,
)

_ADDING: Final = {
    **dict.fromkeys(("push", "add", "append", "enqueue", "attach"), "array_push"),
    **dict.fromkeys(("shift", "dequeue"), "array_shift"),
    "prepend": "array_unshift", "pop": "array_pop",
}  # fmt: skip
"""Methods of collections that change them, and the functions of lists which do the same."""


class Objects(Calls):
    """The layer that knows objects."""

    @reads("member_call_expression")
    @reads("nullsafe_member_call_expression")
    def _member_call(self, part: Part) -> Any:
        of = self.evaluate(part.get("object"))
        name, given = self._member_name(part.get("name")), self.given(part.get("arguments"))
        arguments = part.get("arguments")
        if arguments is not None and any(kid.type == "variadic_placeholder" for kid in arguments.kids):
            return BoundMethod(of, name)
        if isinstance(of, Array) and (changing := _ADDING.get(name.lower())) is not None:
            changed, told = change(self, changing, of, Given([of, *given.values], given.named, {}))
            self.assign(part.get("object"), changed)
            return told
        return self.call_method(of, name, given, part)

    def call_method(self, of: Any, name: str, given: Given, part: Part | None = None) -> Any:
        """Call a method of an object; of a list, one that collections have."""
        if isinstance(of, OneOf):
            return joined(self.call_method(instance, name, given, part) for instance in of.values)
        if isinstance(of, Instance):
            held = of.members.get(name)
            if held is not None and isinstance(held.value, Closure) and self.method(of.kind, name)[0] is None:
                return self.call_value(held.value, given)
            function, kind = self.method(of.kind, name)
            if function is not None:
                return self.call_part(function, given, of, kind)
            function, kind = self.method(of.kind, "__call")
            if function is not None:
                return self.call_part(function, Given.of(name, Array.of(given.values)), of, kind)
        if isinstance(of, Closure) and name.lower() in ("call", "__invoke", "bindto"):
            return self.call_value(of, given)
        if isinstance(of, Array) and (builtin := self.builtin(f"->{name.lower()}")) is not None:
            return builtin(self, Given([of, *given.values], given.named, {}))
        if isinstance(of, Unknown) and name.lower() in self.program.relevant:
            self.world.opened(self)  # whoever gives the object may be asked instead
        if isinstance(of, (Unknown, Instance)):
            self.called_unknown()
        if part is not None:
            self._handed_out(part, given)
        return self.guessed(name, given)

    def method(self, kind: Kind | None, name: str) -> tuple[Part | None, Kind | None]:
        """A method, and the class that has it."""
        for ancestor in kind.line() if kind is not None else ():
            if (part := ancestor.methods.get(name.lower())) is not None and part.get("body") is not None:
                return part, ancestor
        return None, None

    @reads("scoped_call_expression")
    def _scoped_call(self, part: Part) -> Any:
        scope, name = part.get("scope"), self._member_name(part.get("name"))
        given = self.given(part.get("arguments"))
        written_kind = scope.class_name if scope is not None else ""
        kind = self.kind_at(scope)
        if kind is None:
            told = self.world.answer_static(self, written_kind, name.lower(), given, part)
            if told is not NotImplemented:
                return told
            self._handed_out(part, given)
            return self.guessed(name, given)
        this = self.frame.this if written_kind in ("parent", "self", "static") else None
        return self.call_static(kind, name, given, this)

    def call_static(self, kind: Kind | None, name: str, given: Given, this: Any = None) -> Any:
        """Call a method of a class."""
        function, owner = self.method(kind, name)
        if function is not None:
            return self.call_part(function, given, this, kind if this is None else owner)
        function, owner = self.method(kind, "__callStatic")
        if function is not None:
            return self.call_part(function, Given.of(name, Array.of(given.values)), None, kind)
        if kind is not None and kind.cases and name.lower() == "cases":
            return Array.of(kind.cases.values())
        if kind is not None and kind.cases and name.lower() in ("from", "tryfrom"):
            fitting = [case for case in kind.cases.values() if self.property_of(case, "value").value == given.at(0)]
            return fitting[0] if fitting else None
        return self.guessed(name, given)

    @reads("object_creation_expression")
    def _made(self, part: Part) -> Any:
        named = part.kids[0] if part.kids else None
        arguments = next((kid for kid in part.kids if kid.type == "arguments"), None)
        if named is None:
            return UNKNOWN
        if named.type == "anonymous_class":
            arguments = next((kid for kid in named.kids if kid.type == "arguments"), None)
            kind: Kind | None = self.kind_from("", named)
        else:
            kind = self.kind_at(named)
        given = self.given(arguments)
        if kind is None and named.class_name == "stdclass":
            return self.as_object(Array())
        if kind is None:
            name = named.class_name
            told = self.world.answer_made(self, name, given, part)
            if told is NotImplemented:
                self._handed_out(part, given)
            return UNKNOWN if told is NotImplemented else told
        instance = self.make(kind, given)
        self.made.append((part, instance))
        return instance

    def of_type(self, named: Part | None) -> Any:
        """An object of the class that something is declared with; unknown if it is none of the program's."""
        name = named.class_name if named is not None else ""
        kind = self.kind_of(name) if named is not None and named.type in ("named_type", "optional_type") else None
        return Instance(kind, made=False) if kind is not None else UNKNOWN

    def make(self, kind: Kind, given: Given) -> Instance:
        """A new object of a class."""
        instance = Instance(kind, made=True)
        constructor, owner = self.method(kind, "__construct")
        if constructor is not None:
            self.call_part(constructor, given, instance, owner)
        return instance

    def kind_from(self, name: str, part: Part) -> Kind:
        """The class that a part of the program defines."""
        raise NotImplementedError

    def as_object(self, value: Any) -> Any:
        """``(object) ['name' => 'intl']``"""
        if not isinstance(value, Array):
            return value if isinstance(value, Instance) else UNKNOWN
        instance = Instance(Kind("stdclass", None, None, whole=True), made=True)
        instance.members.update((str(key), Cell(item)) for key, item in value.items.items())
        return instance

    @reads("clone_expression")
    def _cloned(self, part: Part) -> Any:
        told = self.evaluate(part.kids[0]) if part.kids else UNKNOWN
        if not isinstance(told, Instance):
            return UNKNOWN
        copy = Instance(told.kind, made=told.made)
        copy.members.update((name, Cell(cell.value)) for name, cell in told.members.items())
        return copy

    @reads("class_constant_access_expression")
    def _class_constant(self, part: Part) -> Any:
        scope, name = part.kids[0], part.kids[-1].text
        if name.lower() == "class":
            kind = self.kind_at(scope) if scope.text.lower() in ("static", "self", "parent") else None
            return kind.name if kind is not None else _extension_class(scope)
        kind = self.kind_at(scope)
        for ancestor in kind.line() if kind is not None else ():
            if name in ancestor.cases:
                return ancestor.cases[name]
            if name in ancestor.constants:
                return self.within(ancestor, ancestor.constants[name])
        told = self.world.constant(self, f"{scope.class_name}::{name}", part) if kind is None else NotImplemented
        return UNKNOWN if told is NotImplemented else told

    def within(self, kind: Kind | None, part: Part) -> Any:
        frame = Frame(part.file, {}, None)
        frame.kind = kind
        if len(self.frames) > MAX_CALLS:
            return UNKNOWN
        self.frames.append(frame)
        try:
            return self.evaluate(part)
        except Leave:
            return UNKNOWN
        finally:
            self.frames.pop()


def _extension_class(scope: Part) -> str:
    """The name of a class as it is written; that of one of an extension's in full where the file imports it."""
    full = full_name(scope.text, scope.file.imports)
    return full if provided("class", full) else scope.text.lstrip("\\")
