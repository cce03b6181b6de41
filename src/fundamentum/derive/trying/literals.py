"""What is written out in a program that is tried out: texts, numbers and the words for them."""

import re
from typing import Any, Final

from fundamentum.derive.php_source.scalars import limited
from fundamentum.derive.trying.operations import Operations
from fundamentum.derive.trying.operators import joined_by
from fundamentum.derive.trying.parts import FUNCTIONS, Part
from fundamentum.derive.trying.values import UNKNOWN, Text

_ESCAPES: Final = {"n": "\n", "t": "\t", "r": "\r", "\\": "\\", "$": "$", '"': '"', "e": "\x1b", "0": "\0"}
_SETTINGS: Final = re.compile(r"(?:^|/)(?:[\w-]*config|[\w-]*settings|local|options)[\w.-]*\.(?:php|inc)$", re.I)
"""How files are called that hold what is chosen on a server."""


class Literals(Operations):
    """The layer of what is written out."""

    def _string(self, part: Part) -> Any:
        inner = part.text[1:-1]
        return Text.at(inner.replace("\\'", "'").replace("\\\\", "\\"), part)

    def _template(self, part: Part) -> Any:
        """A text with values in it."""
        if part.type == "encapsed_string" and all(kid.type in ("string_content", "string_value") for kid in part.kids):
            return Text.at(part.text[1:-1], part)
        if all(kid.type in ("string_content", "nowdoc_string") for kid in part.kids) and part.type.endswith("doc_body"):
            return Text.at(_lines_of(part), part)
        joined: Any = ""
        for kid in part.kids:
            if kid.type in ("string_content", "string_value", "nowdoc_string"):
                told: Any = kid.text
            elif kid.type == "escape_sequence":
                told = _ESCAPES.get(kid.text[1:2], kid.text)
            elif kid.type in ("heredoc_body", "nowdoc_body"):
                told = self._template(kid)
            elif kid.type in ("heredoc_start", "heredoc_end"):
                continue
            else:
                told = self.evaluate(kid)
            joined = joined_by(".", joined, told)
        return joined

    def _integer(self, part: Part) -> Any:
        digits = part.text.replace("_", "").lower()
        base = {"0x": 16, "0b": 2, "0o": 8}.get(digits[:2], 8 if digits[:1] == "0" and digits.isdigit() else 10)
        try:
            return limited(int(digits[2:] if digits[1:2] in "xbo" and digits[1:2] else digits, base))
        except ValueError:
            return UNKNOWN

    def _float(self, part: Part) -> Any:
        try:
            return float(part.text.replace("_", ""))
        except ValueError:
            return UNKNOWN

    def _boolean(self, part: Part) -> Any:
        # What a file of settings says is for each server to say.
        settled = _SETTINGS.search(self.frame.code.path) is None or not _given(part)
        return part.text.lower() == "true" if settled else UNKNOWN

    def _null(self, _: Part) -> Any:
        return None


_GIVING: Final = frozenset({"assignment_expression", "array_element_initializer", "const_element", "property_element"})


def _given(value: Part) -> bool:
    """Whether a value is given to a name, outside of functions: ``$use_ldap = false;``, ``define('DEBUG', true);``"""
    at = value.above
    gives = at is not None and (at.type in _GIVING or (at.type == "argument" and "define(" in _call_of(at)))
    while gives and at is not None:
        gives, at = at.type not in FUNCTIONS, at.above
    return gives


def _call_of(argument: Part) -> str:
    call = argument.above.above if argument.above is not None else None
    return call.text[:8].lower() if call is not None else ""


def _lines_of(body: Part) -> str:
    """The text of a heredoc, without the margin in which its end stands."""
    end = body.above.kids[-1].node.start_point.column if body.above is not None else 0
    return "\n".join(line[end:] if line[:end].isspace() else line for line in body.text.split("\n")[1:])
