"""Programs that an application starts, as far as their names are known where it starts them.

``exec($this->tools['convert'] . ' -resize 200 ' . $file)``
"""

from typing import Any, Final

from fundamentum.derive.statements.wishes import command_of
from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.parts import Part

MAX_WORDS: Final = 4
"""Parts of a text that are looked at, from its beginning on, where not all of it is known."""


def started(machine: Machine, part: Part, given: Given) -> str:
    """The name of the program that a call starts; empty: one that is everywhere, or its name is not known."""
    if isinstance(given.at(0), str):
        return command_of(given.at(0), whole=True)
    arguments = part.get("arguments")
    first = arguments.kids[0].kids if arguments is not None and arguments.kids else ()
    known = "".join(_beginning(machine, first[-1])) if first else ""
    return command_of(known, whole=False)


def _beginning(machine: Machine, part: Part) -> list[str]:
    """What is known of a text from its beginning on, in the parts of which it is put together."""
    operands: list[Part] = [part]
    while operands[0].type == "binary_expression" and operands[0].sign == ".":
        joined = operands.pop(0)
        operands[:0] = [one for one in (joined.get("left"), joined.get("right")) if one is not None]
    told: list[str] = []
    for one in operands[:MAX_WORDS]:
        value: Any = machine.evaluate(one)
        if not isinstance(value, str):
            break
        told.append(value)
    return told
