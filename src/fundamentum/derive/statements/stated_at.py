"""What a place in a program states: what comes of it where something is missing, as a check of one extension."""

from typing import Literal

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Check, Outcome
from fundamentum.derive.php_source.nodes import heading, line, names_around
from fundamentum.derive.statements.consequences import consequences
from fundamentum.derive.statements.ending_functions import called_where
from fundamentum.derive.statements.outcomes import STRENGTH


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


def names_of(place: Node) -> str:
    """The names of the class and the function that a place stands in, and of what it is given to."""
    return " ".join((*names_around(place), heading(place)))[:200]


def check_at(place: Node, extension: str, told: Outcome, what: str) -> Check:
    """The check at a place.  ``told``: what comes of it where the extension is missing; ``what``: as people read it."""
    ends: Literal["exits", "throws"] = "throws" if names_around(place)[1] else "exits"
    outcome = ends if told == "stops" else told or "asked"
    return Check(extension, outcome, line(place), what, (), names_of(place), calls=called_where(place, False))
