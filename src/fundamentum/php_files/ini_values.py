"""The values of PHP's ini dialect: on/off words, quoted texts, constants and what is reckoned with them, ``${NAME}``.

The rules are those of PHP's own scanner (``zend_ini_scanner.l`` and ``zend_ini_parser.y``); :mod:`.ini` reads lines.
"""

import re
from collections.abc import Callable, Mapping
from typing import Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.untrusted.numbers import clipped

MAX_FILLED_IN: Final = 256 * 1024
"""Characters that references of one file bring in: each may stand for others that do."""

Variables = Callable[[str], str | None]
"""Looks up ``${NAME}``; None means that the value cannot be known from here."""


class Broken(Exception):
    """What PHP's scanner or parser has no rule for."""


TRUE = lazy_regex(r"(?:true|on|yes)[ \t]*", re.I)
FALSE = lazy_regex(r"(?:false|off|none|null|no)[ \t]*", re.I)
BLANK = lazy_regex(r"[ \t]+")
CONSTANT = lazy_regex(r"[A-Za-z_][A-Za-z0-9_]*")
_OF_PHP = lazy_regex(r"(?:PHP|M)_[A-Z0-9_]+|(?:DIRECTORY|PATH)_SEPARATOR")
RAW = lazy_regex(r"'[^']*'")
NEWLINE = lazy_regex(r"[ \t]*(?:\r\n|\r|\n)")
_COMMENT = lazy_regex(r"[ \t]*;[^\r\n]*(?:\r\n|\r|\n)")
_TEXT = lazy_regex(r"""(?:[^$= \t\n\r;&|^~()!"'\x00]|\$(?:[^{\x00]|\\.))+""", re.S)
_OPERATOR = lazy_regex(r"[ \t]*([&|^~()!])[ \t]*")
_QUOTE = lazy_regex(r'[ \t]*"')
_VARIABLE = lazy_regex(r"\$\{([^=\n\r\t;&|^$~(){}!\"\[\]\x00]+)\}")
_DEFAULTED = lazy_regex(r"\$\{([^=\n\r\t;&|^$~(){}!\"\[\]\x00:]+):-([^$\n\r;:}\"\x00]*)\}")
_ENDS = lazy_regex(r"\r\n|\r|\n")


class Values:
    """Reads values from a place in a text on; what stands around them is for those who read lines."""

    def __init__(self, text: str, constants: Mapping[str, str], variables: Variables) -> None:
        self.text, self.constants, self.variables = text, constants, variables
        self.at, self.line = 0, 1
        self.unknown = False
        self.filled_in = 0

    def take(self, pattern: re.Pattern[str]) -> re.Match[str] | None:
        match = pattern.match(self.text, self.at)
        if match:
            self.at = match.end()
            self.line += self.ends_in(match.group())
        return match

    @staticmethod
    def ends_in(text: str) -> int:
        return text.count("\n") if "\r" not in text else len(_ENDS.findall(text))

    def peek(self) -> str:
        return self.text[self.at : self.at + 1]

    def value(self) -> str:
        """``string_or_value`` of the grammar: a lone on/off word, nothing, or an expression."""
        if self.take(NEWLINE) or self.take(_COMMENT) or self.at >= len(self.text) or self.peek() == ";":
            if self.peek() == ";":
                self.skip_line()
            return ""
        if word := self.switch_word():
            self.at = word.end()
            self.end_of_line()
            return "1" if TRUE.fullmatch(word[0]) else ""
        value = self.expression(0)
        if self.at < len(self.text) and self.peek() in "'\0$":
            self.at = len(
                self.text
            )  # a lone quote matches no rule of the scanner: PHP takes it for the end of the file
        else:
            self.end_of_line()
        return value

    def switch_word(self) -> re.Match[str] | None:
        """An on/off word that starts here, unless it is only the beginning of a longer word."""
        word = TRUE.match(self.text, self.at) or FALSE.match(self.text, self.at)
        text = _TEXT.match(self.text, self.at)
        return word if word and (text is None or text.end() <= word.end()) else None

    def end_of_line(self) -> None:
        if self.take(NEWLINE) or self.take(_COMMENT) or self.at >= len(self.text):
            return
        if self.comment_ahead():
            self.skip_line()
            return
        raise Broken

    def skip_line(self) -> None:
        end = _ENDS.search(self.text, self.at)
        self.at = end.end() if end else len(self.text)
        self.line += 1 if end else 0

    def expression(self, depth: int) -> str:
        if depth > 50:
            raise Broken
        left = self.operand(depth)
        while (match := _OPERATOR.match(self.text, self.at)) and match[1] in "|&^":
            self.take(_OPERATOR)
            right = self.operand(depth)
            a, b = _integer(left), _integer(right)
            left = str(a | b if match[1] == "|" else a & b if match[1] == "&" else a ^ b)
        return left

    def operand(self, depth: int) -> str:
        match = _OPERATOR.match(self.text, self.at)
        if match and match[1] in "~!(":
            if depth > 50:
                raise Broken
            self.take(_OPERATOR)
            if match[1] == "(":
                inside = self.expression(depth + 1)
                closing = self.take(_OPERATOR)
                if not closing or closing[1] != ")":
                    raise Broken
                return inside
            inner = _integer(self.operand(depth + 1))
            return str(~inner) if match[1] == "~" else ("0" if inner else "1")
        return self.string()

    def constant(self, word: str) -> str:
        """What a word stands for, if it is a constant's name; what others of PHP's own hold is not known from here."""
        if word not in self.constants and _OF_PHP.fullmatch(word):
            self.unknown = True
        return self.constants.get(word, word)

    def string(self) -> str:
        """``var_string_list``: words, quoted strings and references, standing side by side."""
        out: list[str] = []
        quoted = False
        while True:
            if self.take(_QUOTE):
                out.append(self.quoted())
            elif self.text.startswith("${", self.at):
                out.append(self.variable())
            elif (
                self.at >= len(self.text)
                or NEWLINE.match(self.text, self.at)
                or self.comment_ahead()
                or _OPERATOR.match(self.text, self.at)
            ):
                break
            elif raw := self.take(RAW):
                out.append(raw.group()[1:-1])
            elif self.switch_word():  # on/off words stand alone or not at all
                raise Broken
            elif text := self.take(_TEXT):
                word = text.group()
                out.append(self.constant(word) if CONSTANT.fullmatch(word) else word)
            elif blank := self.take(BLANK):
                out.append(blank.group())
            else:
                break
            quoted = True
        if not quoted:
            raise Broken
        return "".join(out)

    def comment_ahead(self) -> bool:
        blank = BLANK.match(self.text, self.at)
        return self.text.startswith(";", blank.end() if blank else self.at)

    def quoted(self) -> str:
        out: list[str] = []
        while True:
            char = self.peek()
            if char == "":
                raise Broken
            if char == '"':
                self.at += 1
                self.take(BLANK)
                return "".join(out)
            if char == "\\" and self.at + 1 < len(self.text):
                following = self.text[self.at + 1]
                if following == '"' and self.text[self.at + 2 : self.at + 3] in ("", "\r", "\n"):
                    out.append(char)  # "C:\\dir\\" at the end of a line: the quote closes
                    self.at += 1
                    continue
                out.append(following if following in "\\'\"" else char + following)
                self.line += following == "\n"
                self.at += 2
            elif self.text.startswith("${", self.at):
                out.append(self.variable())
            else:
                self.line += char == "\n"
                out.append(char)
                self.at += 1

    def variable(self) -> str:
        default: str | None = None
        match = self.take(_DEFAULTED)
        if match:
            default = match[2]
        else:
            match = self.take(_VARIABLE)
        if not match:
            raise Broken
        value = self.variables(match[1])
        self.filled_in += len(value or "")
        if value is None or self.filled_in > MAX_FILLED_IN:
            self.unknown = self.unknown or default is None
            return default or ""
        return value


def is_switch(word: str) -> bool:
    return TRUE.fullmatch(word) is not None or FALSE.fullmatch(word) is not None


def _integer(text: str) -> int:
    """C's ``atoi``, which is what PHP applies to both sides of an operator."""
    match = re.match(r"[ \t\n\r\v\f]*([+-]?[0-9]+)", text)
    return max(min(clipped(match[1]), 2**63 - 1), -(2**63)) if match else 0
