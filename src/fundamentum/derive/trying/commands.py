"""Programs that an application starts, as far as their names are known where it starts them.

``exec($this->tools['convert'] . ' -resize 200 ' . $file)``
"""

import re
from collections.abc import Iterator
from typing import Any, Final

from fundamentum.derive.statements.wishes import IN_BACKTICKS, LOOKING, command_of
from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.parts import FUNCTIONS, Part
from fundamentum.derive.trying.values import UNKNOWN, Array

NOT_FOUND: Final = 127
"""How a shell ends that finds no program of a name."""
_WRITTEN: Final = {"exec": (1, 2), "system": (None, 1), "passthru": (None, 1)}
"""Which arguments take the lines that are told, and how it ended."""
_PATH: Final = re.compile(r"/(?:usr/)?(?:local/)?s?bin/(?P<name>[A-Za-z][\w.+-]*)")
"""Where programs stand."""
MAX_TURNS: Final = 2
MAX_BEFORE: Final = 20
"""Statements before a place in which is looked for what a variable was given."""
MAX_WORDS: Final = 4
"""Parts of a text that are looked at, from its beginning on, where not all of it is known."""


def started(machine: Machine, part: Part, given: Given) -> str:
    """The name of the program that a call starts; empty: one that is everywhere, or its name is not known."""
    if isinstance(given.at(0), str):
        return command_of(given.at(0), whole=True)
    if part.type == IN_BACKTICKS:
        return command_of("".join(known_beginning(machine, kid, 0) for kid in _known_kids(machine, part)), whole=False)
    arguments = part.get("arguments")
    first = arguments.kids[0].kids if arguments is not None and arguments.kids else ()
    return command_of(known_beginning(machine, first[-1]) if first else "", whole=False)


def at_path(path: Any) -> str:
    """The name of the program that a path leads to, where programs stand: ``/usr/bin/convert``; else empty."""
    match = _PATH.fullmatch(path) if isinstance(path, str) else None
    return command_of(match["name"], whole=True) if match is not None else ""


def told_by(machine: Machine, function: str, given: Given, command: str, there: bool) -> Any:
    """What a call comes to that starts a program or looks for it; what it writes to is written.  ``there``: it is."""
    line = given.at(0)
    looks = isinstance(line, str) and line.split()[:1] != [] and line.split()[0] in LOOKING
    path = f"/usr/bin/{command}"
    told: Any = Array() if not there else Array.of([path]) if looks else UNKNOWN
    lines, ended = _WRITTEN.get(function, (None, None))
    for place, value in ((lines, told), (ended, 0 if there else NOT_FOUND)):
        if place is not None and (cell := given.cells.get(place)) is not None:
            machine.memory.write(cell, value)
    if there:
        return path if looks and function != "passthru" else UNKNOWN
    return None if function in ("shell_exec", "passthru") else ""


def known_beginning(machine: Machine, part: Part, turns: int = MAX_TURNS) -> str:
    """What is known of a text that is put together from parts, from its beginning on.

    ``turns``: how many variables are followed to what was put together in the statements before.
    """
    operands: list[Part] = [part]
    while operands[0].type == "binary_expression" and operands[0].sign == ".":
        joined = operands.pop(0)
        operands[:0] = [side for side in (joined.get("left"), joined.get("right")) if side is not None]
    told: list[str] = []
    for operand in operands[:MAX_WORDS]:
        value: Any = operand.text if operand.type == "string_content" else machine.evaluate(operand)
        if isinstance(value, str):
            told.append(value)
            continue
        if operand.type == "encapsed_string" and operand.kids:
            told += (known_beginning(machine, kid, 0) for kid in _known_kids(machine, operand))
        elif operand.type == "variable_name" and turns and (given := _given_before(operand)) is not None:
            told.append(known_beginning(machine, given, turns - 1))
        break
    return "".join(told)


def _known_kids(machine: Machine, template: Part) -> Iterator[Part]:
    """The parts of a text with values in it, as far as they are known."""
    for kid in template.kids[:MAX_WORDS]:
        if kid.type != "string_content" and not isinstance(machine.evaluate(kid), str):
            return
        yield kid


def _given_before(variable: Part) -> Part | None:
    """What a variable was given last in the statements before, in the blocks around."""
    at = variable
    while (above := at.above) is not None and at.type not in FUNCTIONS:
        before = [kid for kid in above.kids if kid.node.end_byte <= at.node.start_byte] if _is_block(above) else []
        for statement in reversed(before[-MAX_BEFORE:]):
            part = statement.kids[0] if statement.type == "expression_statement" and statement.kids else None
            if part is not None and part.type == "assignment_expression":
                left = part.get("left")
                if left is not None and left.text == variable.text:
                    return part.get("right")
        at = above
    return None


def _is_block(part: Part) -> bool:
    return part.type in ("compound_statement", "program", "colon_block")
