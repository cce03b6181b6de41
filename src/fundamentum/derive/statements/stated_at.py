"""What a place in a program states: what comes of it where something is missing, as a check of one extension."""

import re
from typing import Final, Literal

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Check, Outcome
from fundamentum.derive.php_source.nodes import children, heading, line, names_around, nearest, text
from fundamentum.derive.statements.asking_functions import answered
from fundamentum.derive.statements.consequences import consequences
from fundamentum.derive.statements.ending_functions import called_where
from fundamentum.derive.statements.outcomes import MISSING, STRENGTH, WARNING


def comes_of(condition: Node, holds: bool, *, extension: bool = False) -> Outcome:
    """The strongest that comes of a condition where it holds, or where it does not.

    ``extension``: it asks for an extension, so that words such as *missing* speak of that.
    """
    strongest: Outcome = ""
    for held, told in consequences(condition, extension=extension):
        if held is holds:
            strongest = max(strongest, told, key=STRENGTH.index)
        if strongest == STRENGTH[-1]:
            break
    return strongest


_OF_REQUIREMENTS: Final = re.compile(r"requir|check|prerequisit|depend", re.I)
"""How classes are called of which one is made for each requirement."""


def said_by_class(answer: Node) -> Literal["warns", "reports", "asked"]:
    """What a class that is one requirement says of what its method answers: its texts ask for that."""
    holder = nearest(answer, "class_declaration")
    bases = [text(one) for one in children(holder) if one.type in ("base_clause", "class_interface_clause")]
    written = text(holder)
    asks = any(map(_OF_REQUIREMENTS.search, bases)) and MISSING.search(written)
    if not asks or answered(answer) != "present":
        return "asked"
    return "warns" if WARNING.search(written) else "reports"


def names_of(place: Node) -> str:
    """The names of the class and the function that a place stands in, and of what it is given to."""
    return " ".join((*names_around(place), heading(place)))[:200]


def check_at(place: Node, extension: str, told: Outcome, what: str) -> Check:
    """The check at a place.  ``told``: what comes of it where the extension is missing; ``what``: as people read it."""
    ends: Literal["exits", "throws"] = "throws" if names_around(place)[1] else "exits"
    outcome = ends if told == "stops" else told or "asked"
    return Check(extension, outcome, line(place), what, (), names_of(place), calls=called_where(place, False))
