"""What places in a program tell of themselves: that they only inform, are only keys, or hand on what is worse."""

import re
from typing import Any, Final

from fundamentum.derive.php_source.nodes import called
from fundamentum.derive.statements.outcomes import COLLECTORS
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.values import Array, truth

BAD: Final = re.compile(r"fail|err|miss|bad|danger|^no\b|not\b|invalid", re.I)
"""How a result says in words that it is a bad one."""
_PLAIN: Final = frozenset({"string", "encapsed_string", "class_constant_access_expression"})
_NAMES_KEYS: Final = frozenset({"subscript_expression", "case_statement", "match_condition_list"})
_INFORMS: Final = re.compile(r"info|detail|debug|\blog", re.I)
MAX_PRINTED: Final = 400
TEXTS: Final = frozenset({"text", "string", "encapsed_string"})
"""Kinds of parts that are text: of a page, or in quotes."""
_NEXT_STEP: Final = re.compile(
    r"<(?:input|button|a)\b.{0,300}?\b(?:next|continue|proceed|go on|install|step[-_=]?\w*)\b", re.I | re.S
)
_REDIRECTS: Final = re.compile(r"redirect|^header$|^location$|go_?to", re.I)
_STEP: Final = re.compile(r"step|next|continue|proceed", re.I)
_PRINTING: Final = frozenset({"echo_statement", "print_intrinsic"})
_PASSING_ON: Final = frozenset({"parenthesized_expression", "unary_op_expression", "binary_expression"})
_EQUAL: Final = frozenset({"==", "===", "!=", "!==", "<>"})


def only_informs(part: Part) -> bool:
    """Whether a text goes to where a program only tells how things are: ``$info[] = '...'``"""
    above: Part | None = part
    while above is not None and not above.type.endswith("_statement"):
        if above.type in ("assignment_expression", "augmented_assignment_expression"):
            return _INFORMS.search(above.kids[0].text) is not None
        above = above.above
    return False


def is_kept(part: Part) -> bool:
    """Whether a text is only kept in a variable: where that goes says how bad it is."""
    above: Part | None = part
    while above is not None and part.type in TEXTS and not above.type.endswith("_statement"):
        if above.type == "assignment_expression":
            target = above.kids[0]
            return target.type == "variable_name" and COLLECTORS.search(target.text) is None
        above = above.above
    return False


def where_no_error_is(part: Part) -> bool:
    """Whether a program ends there where it has collected no error: it may have done what it was asked for."""
    above = part.above
    while above is not None and above.type not in ("if_statement", "else_clause"):
        above = above.above
    condition = above.get("condition") if above is not None else None
    return condition is not None and COLLECTORS.search(condition.text) is not None


def within(part: Part, others: set[Part]) -> bool:
    """Whether a place stands inside one of others."""
    above = part.above if others else None
    while above is not None and above not in others:
        above = above.above
    return above is not None


def printed_with(part: Part) -> str:
    """The text of the statement that prints a part; of what is not printed, nothing."""
    above = part
    while above.above is not None and above.type not in _PRINTING and not above.type.endswith("_statement"):
        above = above.above
    return above.text if above.type in _PRINTING else ""


def leads_on(part: Part) -> bool:
    """Whether a page leads on to its next step: ``<input type="submit" value="Next">``, ``redirect('/step/3')``"""
    if part.calls and _REDIRECTS.search(called(part.node)):
        return _STEP.search(part.text[:MAX_PRINTED]) is not None
    return part.type in TEXTS and _NEXT_STEP.search((printed_with(part) or part.text)[:MAX_PRINTED]) is not None


def is_key(part: Part) -> bool:
    """Whether a text, or a constant, only names a key, or is compared with."""
    above = part.above
    if above is None or part.type not in _PLAIN:
        return False
    if above.type == "array_element_initializer":
        return len(above.kids) > 1 and above.kids[0] is part
    return above.type in _NAMES_KEYS or (above.type == "binary_expression" and above.sign in _EQUAL)


def is_asked(part: Part) -> bool:
    """Whether a call is only asked for its answer: ``if ($check->fatal())``"""
    if not part.calls:
        return False
    above = part.above
    while above is not None and above.type in _PASSING_ON:
        part, above = above, above.above
    return above is not None and above.get("condition") is part


def worse(value: Any, before: Any) -> bool:
    """Whether a result is a bad one that was a good one before; a list: whether it has something in it now."""
    if isinstance(value, str) and BAD.search(value):
        return not isinstance(before, str) or not BAD.search(before)
    if isinstance(value, Array):
        fine = before is True or (isinstance(before, Array) and truth(before) is False)
        return bool(value.items) and fine
    return truth(value) is False and truth(before) is True
