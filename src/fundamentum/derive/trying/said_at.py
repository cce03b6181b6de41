"""What stands around the place where a program names an extension: how much it is needed, and for whom."""

import itertools
import re
from typing import Final

from fundamentum.derive.statements.condition_names import names_one
from fundamentum.derive.statements.held_conditions import with_kept
from fundamentum.derive.statements.kept import plain_name
from fundamentum.derive.trying.parts import Part

_RECOMMENDED: Final = re.compile(r"recommend|optional|suggest|advis|nice|prefer|warn", re.I)
_REQUIRED: Final = re.compile(r"requir|mandator|must|needed|necessary|essential|critical|minimum", re.I)
_LEFT_OPEN: Final = re.compile(
    r"['\"](?:is_?)?optional['\"]\s*=>\s*(?:true|1)\b|['\"](?:is_?)?(?:required|mandatory)['\"]\s*=>\s*(?:false|0)\b",
    re.I,
)
"""What an entry of a table says of one that need not be there."""
_LEVEL_NAME: Final = re.compile(r"['\"]?[\w\\]+(?:::\w+)?['\"]?")
"""``WARNING``, ``Level::OPTIONAL``, ``'recommended'``"""
_NEED_NOT: Final = re.compile(r"\b(?:required|mandatory)\s*:\s*false|optional\s*:\s*true", re.I)
_SAPI: Final = r"(?:PHP_SAPI|php_sapi_name\s*\(\s*\))"
_DONE: Final = re.compile(r"\b(?:dl|exit|die|extension_loaded|\w+_exists)\s*\(", re.I)
"""What is done where an extension is missing, or asked for beside it: no condition."""
_CLI: Final = re.compile(_SAPI + r"\s*===?\s*['\"]cli['\"]|['\"]cli['\"]\s*===?\s*" + _SAPI)
MAX_ENTRY: Final = 400
_GIVEN: Final = frozenset({"assignment_expression", "property_element", "const_element"})


def need_not_be(where: Part) -> bool:
    """Whether a list, a table or a call says of a name in it that it need not be there."""
    below, part = where, where.above
    within = False
    while part is not None and not part.type.endswith("_statement"):
        if part.type == "array_element_initializer":
            first, last = part.kids[0], part.kids[-1]
            if first is below and last is not first:  # the name is a key: what stands behind it says how much
                within = True
                said = last.text.lower()
                if _REQUIRED.search(said) and "=>" not in said:
                    return False
                if said in ("false", "0") or _RECOMMENDED.search(said[:60]) or _entry_open(last):
                    return True
            elif last is below and first is not last:
                if _REQUIRED.search(first.text):
                    return False
                if _RECOMMENDED.search(first.text):
                    return True
        elif part.type == "array_creation_expression" and not within:
            within = True
            if _entry_open(part):
                return True
        elif part.type in ("object_creation_expression", "function_call_expression") and _NEED_NOT.search(
            part.text[:MAX_ENTRY]
        ):
            return True
        elif part.type in _GIVEN:
            return _RECOMMENDED.search(plain_name(part.kids[0].text)) is not None
        below, part = part, part.above
    return False


def _entry_open(entry: Part) -> bool:
    """Whether an entry of a table says so: by a key, or as ``['apcu', 'APCu', false]``."""
    if entry.type != "array_creation_expression":
        return False
    if _LEFT_OPEN.search(entry.text[:MAX_ENTRY]):
        return True
    if entry.above is None or entry.above.type != "array_element_initializer":
        return False
    told = [kid.kids[0].text for kid in entry.kids if len(kid.kids) == 1]
    return any(
        argument.lower() == "false" or (_LEVEL_NAME.fullmatch(argument) and _RECOMMENDED.search(argument))
        for argument in told
    )


def by_choice(part: Part, name: str) -> bool:
    """Whether a condition around names an extension in words: ``if ($auth == 'ldap')``"""
    return any(names_one(condition.text.encode(), (name,)) for condition in _conditions(part))


def stands_beside(part: Part, *, chosen: bool = False) -> bool:
    """Whether something else is asked before it in the same condition.  ``chosen``: something that is configured."""
    below, above = part, part.above
    while above is not None and not above.type.endswith("_statement"):
        left = above.get("left") if above.type == "binary_expression" and above.sign in _JOINING else None
        asked_first = left.text if left is not None and left is not below else ""
        if asked_first and not _DONE.search(asked_first) and (not chosen or _CONFIGURED.search(asked_first)):
            return True
        below, above = above, above.above
    return False


def together_with_another(part: Part) -> bool:
    """Whether something else has to hold beside it: ``extension_loaded('xcache') && $size < 8``"""
    above = part.above
    while above is not None and not above.type.endswith("_statement"):
        if above.type == "binary_expression" and above.sign in ("&&", "and") and not _is_statement(above):
            return True
        above = above.above
    return False


_CONFIGURED: Final = re.compile(
    r"conf(?:ig\w*)?\b|setting|options?\b|pref(?:erence)?s?\b|feature|\b(?:use_?[A-Z]|USE_)|enabled?\b|\bENABLE_|"
    r"\b(?:is|get)[A-Z]\w*Enabled\b"
)
"""How what each server may choose for itself is called."""


_JOINING: Final = frozenset({"&&", "and", "||", "or"})


def on_command_line(part: Part) -> bool:
    """Whether a condition around holds on the command line alone."""
    return any(_CLI.search(condition.text) and "||" not in condition.text for condition in _conditions(part))


def _is_statement(part: Part) -> bool:
    return part.above is not None and part.above.type == "expression_statement"


def _conditions(part: Part) -> list[Part]:
    """The conditions under which a part is come to, but those that it is a part of."""
    parts: list[Part] = []
    below, above = part, part.above
    while above is not None:
        condition = above.get("condition") or (above.get("value") if above.type == "case_statement" else None)
        if condition is not None and condition is not below:
            kept = with_kept(above.file.data, condition.node, True)
            parts += [condition, *(Part(node, above.file) for node, _ in itertools.islice(kept, 1, None))]
        if above.type == "binary_expression" and above.sign in ("&&", "and", "||", "or"):
            # Of "a or b" the first decides whether the second is asked; in a statement the second is what is done.
            together = above.sign in ("&&", "and") and not _is_statement(above)
            left, right = above.get("left"), above.get("right") if together else None
            siblings = (sibling for sibling in (left, right) if sibling is not None and sibling is not below)
            parts += [sibling for sibling in siblings if not _DONE.search(sibling.text)]
        below, above = above, above.above
    return parts
