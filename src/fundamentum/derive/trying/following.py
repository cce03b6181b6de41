"""The statements of a program that is tried out, gone through one after the other."""

import re
from collections.abc import Callable
from functools import partial
from typing import Any, Final

from fundamentum.derive.trying.machine import Break, Continue, Exit, Goto, Return, Thrown
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.turns import Turns
from fundamentum.derive.trying.values import UNKNOWN, Array, Instance, truth

MAX_JUMPS: Final = 4
"""How often a block may be gone through."""
_PASSES_OVER: Final = re.compile(r"\{?\s*continue\s*;\s*\}?")


class Following(Turns):
    """The layer that goes through statements."""

    def execute(self, part: Part) -> None:
        self.step(part)
        reader = _READERS.get(part.type)
        if reader is not None:
            reader(self, part)
        elif part.type.endswith("_expression") or part.type in ("name",):
            self.evaluate(part)

    def _block(self, part: Part) -> None:
        at, kids = 0, part.kids
        for _ in range(len(kids) * MAX_JUMPS):
            if at >= len(kids):
                return
            try:
                if self.program.slices.tell(kids[at]):
                    self.execute(kids[at])
                at += 1
            except Goto as leave:
                at = next((number for number, kid in enumerate(kids) if _label(kid) == leave.value), len(kids))
                if at == len(kids):
                    raise

    def _goto(self, part: Part) -> None:
        raise Goto(part.kids[0].text if part.kids else "")

    def _expression(self, part: Part) -> None:
        for kid in part.kids:
            self.evaluate(kid)

    def _shown(self, part: Part) -> None:
        """Text of a page, or what is printed; the parts of it are come to as well."""
        for kid in part.kids:
            if kid.type == "text":
                self.step(kid)
            elif kid.type not in ("php_tag", "php_end_tag"):
                self.evaluate(kid)

    def _if(self, part: Part) -> None:
        clauses = [kid for kid in part.kids if kid.type in ("else_if_clause", "else_clause")]
        self._ways(part, clauses)

    def _ways(self, asking: Part, others: list[Part]) -> None:
        before = self.world.answers
        asked = asking.get("condition")
        condition = truth(self.evaluate(asked))
        if condition and asked is not None and _PASSES_OVER.fullmatch(asking.fields["body"].text):
            self.exempt(asked)
        # What stands beside a question in one condition only exempts from it.
        doubt = int(self.world.answers == before)
        self.chosen(condition, lambda: self._body(asking), lambda: self._otherwise(others), doubt)

    def _otherwise(self, clauses: list[Part]) -> None:
        if clauses and clauses[0].type == "else_clause":
            self._body(clauses[0])
        elif clauses:
            self._ways(clauses[0], clauses[1:])

    def _body(self, part: Part) -> None:
        body = part.get("body")
        if body is not None:
            self.execute(body)
        # With the syntax for templates the parser has the page's text behind the body.
        if body is not None and body.type == "colon_block":
            for text in _text_behind(part, body):
                self.execute(text)

    def _switch(self, part: Part) -> None:
        asked = self.evaluate(part.get("condition"))
        block = part.get("body")
        try:
            self._cases(asked, list(block.kids) if block is not None else [])
        except Break as leave:
            self._further(leave)
        except Continue as leave:
            self._further(leave)

    def _cases(self, asked: Any, cases: list[Part]) -> None:
        for at, case in enumerate(cases):
            if case.type == "default_statement":
                continue
            fits = truth(self.operate("==", asked, self.evaluate(case.get("value"))))
            if fits:
                self._from(cases[at:])
                return
            if fits is None:
                self.fork(partial(self._perhaps_from, cases[at:]), partial(self._cases, asked, cases[at + 1 :]))
                return
        for at, case in enumerate(cases):
            if case.type == "default_statement":
                self._from(cases[at:])
                return

    def _perhaps_from(self, cases: list[Part]) -> None:
        try:
            self._from(cases)
        except Break as leave:
            self._further(leave)

    def _from(self, cases: list[Part]) -> None:
        """The statements of a case, and on into the next until one leaves."""
        for case in cases:
            for kid in case.kids[1:] if case.type == "case_statement" else case.kids:
                self.execute(kid)

    def _return(self, part: Part) -> None:
        raise Return(self.evaluate(part.kids[0]) if part.kids else None, part)

    def _break(self, part: Part) -> None:
        number = self.evaluate(part.kids[0]) if part.kids else 1
        raise (Break if part.type == "break_statement" else Continue)(number)

    def _exit(self, part: Part) -> None:
        raise Exit(self.evaluate(part.kids[0]) if part.kids else None, part)

    def _try(self, part: Part) -> None:
        handlers = [kid for kid in part.kids if kid.type == "catch_clause"]
        last = next((kid for kid in part.kids if kid.type == "finally_clause"), None)
        before, self.frame.thrown = self.frame.thrown, []
        try:
            try:
                self._body(part)
            except Thrown as thrown:
                self._caught(handlers, thrown)
            else:
                if self.frame.thrown and handlers:
                    self.frame.thrown = []
                    self.fork(lambda: self._caught(handlers, Thrown(UNKNOWN)), lambda: None)
        finally:
            self.frame.thrown += before
            if last is not None:
                self._body(last)

    def _caught(self, handlers: list[Part], thrown: Thrown) -> None:
        """The first handler of the kind of what was thrown."""
        for handler in handlers:
            kinds = {name.rpartition("\\")[2].strip().lower() for name in handler.fields["type"].text.split("|")}
            fits = self._of_kind(thrown.value, kinds)
            if fits is not False:
                if (name := handler.get("name")) is not None:
                    self.assign(name, thrown.value)
                self._body(handler)
                return
        raise thrown

    def _of_kind(self, value: Any, names: set[str]) -> bool | None:
        if names & {"throwable", "exception"}:
            return True
        if isinstance(value, Instance):
            own = {kind.name for kind in value.kind.line()}
            return True if own & names else None if not value.kind.whole else False
        return None

    def _global(self, part: Part) -> None:
        for kid in part.kids:
            if kid.type == "variable_name":
                self.frame.scope[kid.text] = self.global_variable(kid.text)

    def _static(self, part: Part) -> None:
        for kid in part.kids:
            name, value = kid.get("name"), kid.get("value")
            if name is not None:
                key = (kid, name.text)
                if key not in self.statics:
                    made = type(self.variable(name.text))
                    self.statics[key] = made(self.evaluate(value) if value is not None else None)
                self.frame.scope[name.text] = self.statics[key]

    def _unset(self, part: Part) -> None:
        for kid in part.kids:
            if kid.type == "subscript_expression" and len(kid.kids) > 1:
                array, key = self.evaluate(kid.kids[0]), self.evaluate(kid.kids[1])
                if isinstance(array, Array):
                    self.assign(
                        kid.kids[0], Array({k: v for k, v in array.items.items() if k != key}, loose=array.loose)
                    )
            elif kid.type == "variable_name":
                self.memory.write(self.variable(kid.text), None)

    def _constants(self, part: Part) -> None:
        for kid in part.kids:
            if kid.type == "const_element" and len(kid.kids) > 1:
                self.constants[kid.kids[0].text] = self.evaluate(kid.kids[1])

    def _defines(self, part: Part) -> None:
        name = part.get("name")
        if name is not None:
            self.functions.setdefault(name.text.lower(), part)

    def _namespace(self, part: Part) -> None:
        if (body := part.get("body")) is not None:
            self._block(body)


def _label(part: Part) -> str | None:
    return part.kids[0].text if part.type == "named_label_statement" and part.kids else None


def _text_behind(part: Part, body: Part) -> list[Part]:
    """The page's text that stands behind a body, up to the next clause."""
    around = part.above.kids if part.type in ("else_clause", "else_if_clause") and part.above is not None else part.kids
    start = part if part.type in ("else_clause", "else_if_clause") else body
    parts: list[Part] = []
    behind = False
    for kid in around:
        if behind and kid.type == "text_interpolation":
            parts.append(kid)
        elif behind:
            break
        behind = behind or kid is start or kid.node.id == start.node.id
    return parts


_READERS: Final[dict[str, Callable[[Any, Part], None]]] = {
    "program": Following._block,
    "compound_statement": Following._block,
    "colon_block": Following._block,
    "expression_statement": Following._expression,
    "echo_statement": Following._shown,
    "text_interpolation": Following._shown,
    "if_statement": Following._if,
    "switch_statement": Following._switch,
    "foreach_statement": Following._foreach,
    "while_statement": Following._while,
    "do_statement": Following._while,
    "for_statement": Following._for,
    "return_statement": Following._return,
    "break_statement": Following._break,
    "continue_statement": Following._break,
    "exit_statement": Following._exit,
    "goto_statement": Following._goto,
    "try_statement": Following._try,
    "global_declaration": Following._global,
    "function_static_declaration": Following._static,
    "unset_statement": Following._unset,
    "const_declaration": Following._constants,
    "function_definition": Following._defines,
    "namespace_definition": Following._namespace,
}
