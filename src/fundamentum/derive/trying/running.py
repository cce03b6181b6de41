"""A whole program that is tried out: the machine with all of its layers."""

import re
from collections.abc import Callable
from functools import partial
from typing import Any, Final

from fundamentum.catalog.quantity import quantity
from fundamentum.derive.statements.requirement_names import looks_at_requirements
from fundamentum.derive.trying import (
    list_functions,
    own_functions,
    pattern_functions,
    plain_functions,
    text_functions,
    written_lists,
)
from fundamentum.derive.trying.builtins import builtin
from fundamentum.derive.trying.directories import HERE
from fundamentum.derive.trying.expressions import reads
from fundamentum.derive.trying.following import Following
from fundamentum.derive.trying.machine import Beyond, Enough, Exit, Frame, Given, Leave, Return
from fundamentum.derive.trying.memory import Cell
from fundamentum.derive.trying.parts import Code, Part
from fundamentum.derive.trying.requests import SENT, request
from fundamentum.derive.trying.usual_settings import MEGABYTE
from fundamentum.derive.trying.values import UNKNOWN, Array, Instance, Kind, Unknown, truth

_ENDING: Final = re.compile(r"^(?:abort|deactivate_plugins)$|_die$")
_ENDS_WHERE: Final = re.compile(r"(?:abort|throw|fail|die|exit|stop|error|fatal)_?(if|unless)$")
_OUTSIDE: Final = frozenset(
    "$_GET $_POST $_REQUEST $_COOKIE $_SERVER $_ENV $_FILES $_SESSION $GLOBALS $argv $argc".split()
)
_OF_LEVELS: Final = re.compile(r"(?:is_?)?(?:required|mandatory|optional|fatal|critical|blocking)", re.I)
MAX_MADE: Final = 40
MAX_INCLUDED: Final = 4000
"""Bytes of a file that is gone through where another includes it, though it asks nothing."""
PART_OF_STEPS: Final = 4
"""That part of all steps is gone in one file that is included."""
_SIZE: Final = re.compile(r"-?\d{1,15}\s?[KMG]?", re.I)
_CONVERTS: Final = re.compile(
    r"(to_?mb\b|mega)|byte|size|conver|memory|quantity|return_val|parse|shorthand|human|to_?int", re.I
)
"""How functions are called that turn ``128M`` into a number."""
_KEY: Final = re.compile(r"\w{1,40}(?:\.[\w-]{1,40}){1,5}")
_INCLUDES: Final = ("include_expression", "include_once_expression", "require_expression", "require_once_expression")


FUNCTIONS: Final = (list_functions, own_functions, pattern_functions, plain_functions, text_functions, written_lists)
"""Where PHP's own functions stand: each file adds to ``builtins``."""


class Running(Following):
    """The machine."""

    of_entry: Any = None
    """The object of which a method is gone through alone."""

    def variable(self, name: str) -> Cell:
        if name in _OUTSIDE:
            return self.globals.setdefault(name, Cell(UNKNOWN if name == "$argc" else self._outside(name)))
        if self.frame.scope is self.globals:
            return self.global_variable(name)
        return super().variable(name)

    def _outside(self, name: str) -> Array:
        """What comes with a request; the site's directory is the application's own where its first page is there."""
        known = request(self.world.interface) if name == "$_SERVER" else {}
        if name == "$_SERVER" and "index.php" in self.program.paths:
            known["DOCUMENT_ROOT"] = HERE
        self.world.sent_asked = self.world.sent_asked or name in SENT
        return Array(known, loose=self.world.sends or name not in SENT)

    def global_variable(self, name: str) -> Cell:
        if name not in self.globals:
            value = self.program.variable(self, name)
            # What the file itself adds to was not there before; anything else may have come from elsewhere.
            added = isinstance(value, Unknown) and any(
                frame.code.adds_to(name) or (self.entry is None and name in frame.code.given) for frame in self.frames
            )
            self.globals[name] = Cell(None if added else value)
        return self.globals[name]

    def builtin(self, name: str) -> Any:
        return builtin(name)

    def call_named(self, name: str, given: Given, part: Part) -> Any:
        told = super().call_named(name, given, part)
        if name in ("trigger_error", "user_error") and "E_USER_ERROR" in part.text:
            raise Exit(1, part)
        if not isinstance(told, Unknown) or name in self.functions or self.program.defines("function", name):
            return told
        if _ENDING.search(name):
            raise Exit(1, part)
        if ends := _ENDS_WHERE.search(name):
            holds = truth(given.at(0))
            if holds is (ends[1] == "if"):
                raise Exit(1, part)
            if holds is None:
                self.fork(lambda: self._exit_at(part), lambda: None)
        return told

    def _exit_at(self, part: Part) -> None:
        raise Exit(1, part)

    def constant(self, name: str, part: Part) -> Any:
        told = self.world.constant(self, name, part)
        if told is not NotImplemented:
            return told
        path = self.frame.code.path
        if name == "__DIR__":
            return f"{HERE}/{path.rpartition('/')[0]}".rstrip("/")
        if name == "__FILE__":
            return f"{HERE}/{path}"
        if name in ("__CLASS__", "__FUNCTION__", "__METHOD__", "__NAMESPACE__", "__LINE__"):
            return UNKNOWN
        if name not in self.constants:
            self.constants[name] = UNKNOWN
            self.constants[name] = self.program.constant(self, name)
        return self.constants[name]

    def guessed(self, name: str, given: Given) -> Any:
        key = given.at(0)
        size = str(key) if isinstance(key, (str, int)) and _SIZE.fullmatch(str(key)) else ""
        converts = _CONVERTS.search(name)
        if size and (converts or size[-1].isalpha()):
            return quantity(size).number // (MEGABYTE if converts and converts[1] else 1)
        # What stands under a key of a file of settings: config('installer.php')
        return self.program.under_key(self, key) if isinstance(key, str) and _KEY.fullmatch(key) else UNKNOWN

    def kind_of(self, name: str) -> Kind | None:
        if name not in self.kinds:
            self.kinds[name] = None
            part = self.frame.code.classes.get(name) or self.program.kind(self, name)
            if part is not None:
                self.kinds[name] = self.kind_from(name, part)
        return self.kinds[name]

    def kind_from(self, name: str, part: Part) -> Kind:
        bases = _named_in(part, "base_clause")
        base = self.kind_of(bases[0]) if bases else None
        kind = Kind(name, part, base, whole=not bases or (base is not None and base.whole))
        for interface in (self.kind_of(name) for name in _named_in(part, "class_interface_clause")):
            for above in interface.line() if interface is not None else ():
                kind.constants = above.constants | kind.constants
        body = part.get("body")
        for member in body.kids if body is not None else []:
            self._take_member(kind, member)
        return kind

    def _take_member(self, kind: Kind, member: Part) -> None:
        named = member.get("name")
        if member.type == "method_declaration" and named is not None:
            kind.methods[named.text.lower()] = member
        elif member.type == "property_declaration":
            for kid in member.kids:
                if kid.type == "property_element" and kid.get("name") is not None:
                    kind.defaults[kid.fields["name"].text] = kid.get("default_value")
        elif member.type == "const_declaration":
            for kid in member.kids:
                if kid.type == "const_element":
                    kind.constants[kid.kids[0].text] = kid.kids[-1]
        elif member.type == "use_declaration":
            for kid in member.kids:
                used = self.kind_of(kid.class_name)
                kind.whole = kind.whole and used is not None
                if used is not None:
                    kind.methods = used.methods | kind.methods
                    kind.defaults = used.defaults | kind.defaults
        elif member.type == "enum_case" and named is not None:
            case = Instance(kind, made=True)
            case.members["name"] = Cell(named.text)
            value = member.get("value")
            case.members["value"] = Cell(self.within(kind, value) if value is not None else None)
            kind.cases[named.text] = case

    def _include(self, part: Part) -> Any:
        told = self.evaluate(part.kids[0]) if part.kids else UNKNOWN
        path = self.program.included(self, part, told)
        return self.include(path, part) if path is not None else UNKNOWN

    def include(self, path: str, part: Part) -> Any:
        """Go through a file that another one includes; what it returns."""
        few = self.program.paths.get(path, 0) < MAX_INCLUDED
        open_one = path.rpartition("/")[2].lower() in self.program.relevant
        code = self.program.code(path) if few or open_one else None
        if code is None:
            return UNKNOWN
        if path in self.included and part.type.endswith("once_expression"):
            return True
        if len(self.frames) > 8 or sum(frame.code is code for frame in self.frames) > 1:
            return UNKNOWN
        self.included.add(path)
        frame = Frame(code, self.frame.scope, self.frame.unset)
        frame.this, frame.kind = self.frame.this, self.frame.kind
        self.functions.update(code.functions)
        self.frames.append(frame)
        until = self.within_file
        if not looks_at_requirements(path, ""):
            self.within_file = min(until, self.steps + self.most // PART_OF_STEPS)
        try:
            self.execute(code.root)
        except Return as leave:
            return leave.value
        except Beyond:
            return UNKNOWN
        finally:
            self.within_file = until
            self.frames.pop()
        return 1

    def whole_file(self, path: str) -> tuple[str, Any]:
        """Go through a file's own code; how that ends."""
        code = self.program.code(path)
        if code is None:
            return "", None
        self._take_time(code)
        frame = Frame(code, self.globals, UNKNOWN)
        self.functions.update(code.functions)
        self.included.add(path)
        self.frames.append(frame)
        self.place = code.root
        return self._ended(lambda: self.execute(code.root))

    def _take_time(self, code: Code) -> None:
        """A file that is there to look at what is required is gone through further than others."""
        if looks_at_requirements(code.path, ""):
            self.most *= 3

    def function_alone(self, function: Part, of: str = "") -> tuple[str, Any]:
        """Go through one function that is given what is not known.  ``of``: the class of the object it is called on."""
        self._take_time(function.file)
        self.functions.update(function.file.functions)
        self.frames.append(Frame(function.file, self.globals, UNKNOWN))
        self.place = function
        self.entry = function
        this, kind = self._owner(function)
        if of and (other := self.kind_of(of)) is not None:
            this = Instance(other, made=False)
        self.of_entry = this
        return self._ended(lambda: self.call_part(function, Given([], {}, {}, whole=False), this, kind))

    def _owner(self, function: Part) -> tuple[Any, Kind | None]:
        above = function.above
        while above is not None:
            named = (
                above.get("name")
                if above.type in ("class_declaration", "trait_declaration", "enum_declaration")
                else None
            )
            if named is not None:
                kind = self.kind_of(named.text.lower())
                return (Instance(kind, made=False) if kind is not None else None), kind
            above = above.above
        return None, None

    def _ended(self, run: Callable[[], Any]) -> tuple[str, Any]:
        self.ended_at: Part | None = None
        try:
            try:
                end, value = "returned", run()
            except Return as leave:
                end, value, self.ended_at = "returned", leave.value, leave.part
            self._call_what_is_left()
        except Leave as leave:
            end, value, self.ended_at = "exits" if isinstance(leave, Exit) else "throws", leave.value, leave.part
        except Enough:
            return "enough", None
        self.perhaps_ended += [frame_thrown for frame in self.frames for frame_thrown in frame.thrown]
        return end, value

    def _ask_instance(self, part: Part, instance: Instance, name: str) -> None:
        """What a method of an object answers, and what the object says of how much that matters."""
        told: list[Any] = []
        self.fork(lambda: told.append(self.call_method(instance, name, Given.of())), lambda: None)
        row = Array({name: cell.value for name, cell in instance.members.items()})
        for kind in instance.kind.line():
            for other, method in kind.methods.items():
                if _OF_LEVELS.fullmatch(other) and not method.asks:
                    row = row.with_item(other, self.call_method(instance, other, Given.of()))
        self.rows[part] = row
        self.hand(part, told[0] if told else UNKNOWN)

    def _call_what_is_left(self) -> None:
        """Functions that are kept as values are for somebody to call, and the methods of objects that ask."""
        self.left_over = True
        called = set(self.closures)
        for part, instance in self.made[:MAX_MADE]:
            asking = {
                name: method
                for kind in reversed([*instance.kind.line()])
                for name, method in kind.methods.items()
                if self.program.slices.asks(method)
            }
            if called.intersection(asking.values()):
                continue  # the program itself asks what it wants to know
            for name, method in asking.items():
                parameters = method.get("parameters")
                if not (parameters and parameters.kids):
                    self._ask_instance(part, instance, name)
        for part, closure in list(self.closures.items()):
            if closure is not None and self.closures[part] is not None:
                self.fork(partial(self.call_value, closure, Given([], {}, {}, whole=False)), lambda: None)


def _named_in(part: Part, clause: str) -> list[str]:
    """The classes that a clause of a class names."""
    return [name.class_name for kid in part.kids if kid.type == clause for name in kid.kids]


for _kind in _INCLUDES:
    reads(_kind)(Running._include)
