"""Functions, methods and objects of a program that is tried out."""

import re
from typing import Any, Final

from fundamentum.derive.php_source.source import CHECKS
from fundamentum.derive.trying.changing import ADDING, CHANGING, change
from fundamentum.derive.trying.expressions import Expressions, reads
from fundamentum.derive.trying.machine import MAX_CALLS, Exit, Frame, Given, Return
from fundamentum.derive.trying.memory import Cell, Scope
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.sorting import SORTING
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
    truth,
)

_PARAMETERS: Final = frozenset({"simple_parameter", "variadic_parameter", "property_promotion_parameter"})
TRANSLATING: Final = frozenset({"_", "__", "t", "gettext", "esc_html__", "_e", "trans", "lang"})
"""Functions that give out what they are given, whoever defines them."""
_WRITING: Final = {"preg_match": 2, "exec": 1, "parse_str": 1}
"""Functions of PHP that write to what they are given, at which place."""
_LANGUAGE: Final = (
    frozenset({"isset", "empty", "exit", "die", "compact", "extract", "func_get_args", "define"})
    | CHANGING.keys()
    | SORTING
)
"""Functions that look at what stands between the parentheses, not only at its value."""


class Calls(Expressions):
    """The layer that calls."""

    def given(self, part: Part | None) -> Given:
        """What stands between the parentheses of a call."""
        given = Given([], {}, {})
        complete = True
        for kid in part.kids if part is not None else []:
            if kid.type != "argument":
                continue
            inner = kid.kids[-1]
            name = kid.get("name")
            if inner.type == "variadic_unpacking":
                spread = self.evaluate(inner.kids[0])
                if isinstance(spread, Array):
                    given.values.extend(spread.values())
                complete = isinstance(spread, Array) and not spread.loose and complete
            elif name is not None and name is not inner:
                given.named[name.text] = self.evaluate(inner)
            else:
                given.values.append(self.evaluate(inner))
                if inner.type in _REFERABLE and (cell := self.cell(inner)) is not None:
                    given.cells[len(given.values) - 1] = cell
        return given._replace(whole=complete)

    @reads("function_call_expression")
    def _function(self, part: Part) -> Any:
        function, arguments = part.get("function"), part.get("arguments")
        if function is None:
            return UNKNOWN
        if function.type not in ("name", "qualified_name"):
            told = self.evaluate(function)
            return self.call_value(told, self.given(arguments))
        name = function.text.lstrip("\\").rpartition("\\")[2].lower()
        if arguments is not None and any(kid.type == "variadic_placeholder" for kid in arguments.kids):
            return name
        if name in _LANGUAGE:
            return self._of_language(name, part, arguments)
        if function.text.startswith("\\") and function.text.count("\\") == 1:  # PHP's own, whatever is called so here
            told = self.world.answer(self, name, given := self.given(arguments), part)
            return told if told is not NotImplemented else self.call_named(name, given, part)
        return self.call_named(name, self.given(arguments), part)

    @reads("shell_command_expression")
    def _shell(self, part: Part) -> Any:
        """A line for the shell in backticks, as ``shell_exec`` is given it."""
        told = self.world.answer(self, "shell_exec", Given.of(self._template(part)), part)
        return told if told is not NotImplemented else UNKNOWN

    def _of_language(self, name: str, part: Part, arguments: Part | None) -> Any:
        parts = [kid.kids[-1] for kid in arguments.kids if kid.kids] if arguments is not None else []
        if name in ("exit", "die"):
            value = self.evaluate(parts[0]) if parts else None
            raise Exit(value, part)
        if name == "isset":
            told = [self.looked_up(argument) for argument in parts]
            perhaps = any(
                isinstance(argument, Unknown) or (isinstance(argument, OneOf) and None in argument.values)
                for argument in told
            )
            return False if None in told else UNKNOWN if perhaps else True
        if name == "empty":
            there = truth(self.looked_up(parts[0])) if parts else None
            return UNKNOWN if there is None else not there
        if name == "compact":
            names = [text for part in parts if isinstance(text := self.evaluate(part), str)]
            return Array({one: self.variable(f"${one}").value for one in names})
        if name == "extract":
            table = self.evaluate(parts[0]) if parts else UNKNOWN
            for key, value in table.items.items() if isinstance(table, Array) else ():
                self.memory.write(self.variable(f"${key}"), value)
            return UNKNOWN
        if name == "func_get_args":
            given = self.frame.given
            return UNKNOWN if given is None else Array(dict(enumerate(given.values)), loose=not given.whole)
        if name == "define":
            given = self.given(arguments)
            if isinstance(given.at(0), str):
                self.constants[given.at(0)] = given.at(1)
            return True
        return self._of_lists(name, parts, self.given(arguments))

    def _of_lists(self, name: str, parts: list[Part], given: Given) -> Any:
        """Functions that change the list which they are given."""
        source = given.at(0)
        if name in ADDING and isinstance(source, Unknown):
            source = Array(loose=True)
        if not parts or not isinstance(source, Array):
            return UNKNOWN
        changed, told = change(self, name, source, given)
        if changed is not source:
            self.assign(parts[0], changed)
        return told

    def call_named(self, name: str, given: Given, part: Part) -> Any:
        """Call a function by its name: the program's own, or PHP's."""
        own = self.functions.get(name) if name not in TRANSLATING else None
        told = self.world.answer(self, name, given, part) if own is None else NotImplemented
        if told is not NotImplemented:
            return told
        if own is None and (builtin := self.builtin(name)) is not None:
            self.world.looks.given(name, given.values)
            if any(
                isinstance(argument, str) and argument.lstrip("\\").lower() in CHECKS for argument in given.values
            ) and any(
                isinstance(argument, Unknown) or (isinstance(argument, Array) and argument.loose)
                for argument in given.values
            ):
                self.world.opened(self)  # array_filter($extensions, 'extension_loaded')
            return builtin(self, given)
        if own is None and self.program.passes_over(self, name):
            return UNKNOWN
        own = own or self.program.function(self, name)
        if own is not None:
            return self.call_part(own, given)
        self._handed_out(part, given)
        if name in _WRITING and (cell := given.cells.get(_WRITING[name])) is not None:
            self.memory.write(cell, UNKNOWN)
        return self.guessed(name, given)

    def builtin(self, name: str) -> Any:
        """One of PHP's own functions."""
        raise NotImplementedError

    def call_static(self, kind: Kind | None, name: str, given: Given, this: Any = None) -> Any:
        """Call a method of a class."""
        raise NotImplementedError

    def of_type(self, named: Part | None) -> Any:
        """An object of the class that something is declared with; unknown if it is none of the program's."""
        raise NotImplementedError

    def guessed(self, name: str, given: Given) -> Any:
        """What a function comes to that is not there to be looked at, by its name and what it is given."""
        raise NotImplementedError

    def _handed_out(self, part: Part, given: Given) -> None:
        """What is given to a function that is not known."""
        arguments = part.get("arguments") or next((kid for kid in part.kids if kid.type == "arguments"), None)
        places = [kid for kid in arguments.kids if kid.type == "argument"] if arguments is not None else []
        for place, value in zip(places, given.values, strict=False):
            self.hand(place, value)
        for value in (*given.values, *given.named.values()):
            self._perhaps_called(value)

    def _perhaps_called(self, value: Any) -> None:
        """What somebody else is given who may call it."""
        if isinstance(value, (Closure, BoundMethod)):
            before, self.left_over = self.left_over, True
            try:
                self.fork(lambda: self.call_value(value, Given([], {}, {}, whole=False)), lambda: None)
            finally:
                self.left_over = before

    def call_value(self, function: Any, given: Given) -> Any:
        if isinstance(function, Closure):
            return self.call_part(function.part, given, function.this, function.kind, function.bound)
        if isinstance(function, BoundMethod):
            return self.call_method(function.of, function.name, given)
        if isinstance(function, str) and "::" in function:
            kind, _, name = function.partition("::")
            return self.call_static(self.kind_of(kind.rpartition("\\")[2].lower()), name, given)
        if isinstance(function, str):
            return self.call_named(function.lstrip("\\").rpartition("\\")[2].lower(), given, self.place)
        if isinstance(function, Array) and len(function.items) == 2:
            of, name = function.values()
            if isinstance(of, str):
                return self.call_static(self.kind_of(of.rpartition("\\")[2].lower()), str(name), given)
            return self.call_method(of, str(name), given)
        if isinstance(function, Instance):
            return self.call_method(function, "__invoke", given)
        self.called_unknown()
        return UNKNOWN

    def call_part(
        self, function: Part, given: Given, this: Any = None, kind: Kind | None = None, bound: Scope | None = None
    ) -> Any:
        """Go through a function of the program's; what it returns."""
        if len(self.frames) > MAX_CALLS or sum(frame.part is function for frame in self.frames) > 2:
            return UNKNOWN
        if not self.program.tells(function) and self.entry is not function:
            return UNKNOWN  # nothing in it asks, and it is more than a few lines
        self.closures[function] = None
        frame = Frame(function.file, dict(bound or {}), None, part=function)
        frame.this, frame.kind, frame.given = this if isinstance(this, Instance) else None, kind, given
        body = function.get("body")
        self.frames.append(frame)
        try:
            self._take_parameters(function, given)
            if body is None:
                return UNKNOWN
            if function.type == "arrow_function":
                told = self.evaluate(body)
                self._hand_back(function, told)
                return told
            generates = _YIELDS.search(body.text) is not None
            frame.yields = [] if generates else None
            last: Any = None
            try:
                self.execute(body)
            except Return as leave:
                last = leave.value
            if generates:
                out = self.variable("yield").value
                return out if isinstance(out, Array) else Array()
            value = joined([*frame.returns, last])
            self._hand_back(function, value)
            return value
        finally:
            self.frames.pop()
            if self.frames:
                self.frame.thrown += frame.thrown

    def _hand_back(self, function: Part, value: Any) -> None:
        """What a function returns that nobody has called, as far as that is known."""
        if function is self.entry or self.left_over:
            self.hand(function, value)

    def _take_parameters(self, function: Part, given: Given) -> None:
        parameters = function.get("parameters")
        for place, part in enumerate(kid for kid in (parameters.kids if parameters else []) if kid.type in _PARAMETERS):
            named = part.get("name")
            name = named.text if named is not None else ""
            if part.type == "variadic_parameter":
                value: Any = Array(dict(enumerate(given.values[place:])), loose=not given.whole)
            elif place < len(given.values):
                value = given.values[place]
            elif name[1:] in given.named:
                value = given.named[name[1:]]
            else:
                default = part.get("default_value")
                value = self.evaluate(default) if default is not None else UNKNOWN
                if not given.whole and value in (None, "", 0, Array()) and value is not False:
                    value = UNKNOWN
            if isinstance(value, Unknown):
                value = self.of_type(part.get("type"))
            by_reference = part.get("reference_modifier") is not None
            cell = given.cells.get(place) if by_reference else None
            if by_reference and function is self.entry:
                cell = Cell(None if function.file.adds_to(name) else value)
                self.references = {**self.references, name: cell}
            self.frame.scope[name] = cell if cell is not None else Cell(value)
            if part.type == "property_promotion_parameter" and self.frame.this is not None:
                self.memory.write(self.property_of(self.frame.this, name[1:]), value)


_YIELDS: Final = re.compile(r"\byield\b")
_REFERABLE: Final = frozenset(
    {"variable_name", "member_access_expression", "scoped_property_access_expression", "dynamic_variable_name"}
)
