"""PHP's ini dialect, read exactly as PHP reads it.

``php.ini``, the files of the scan directory and the pool files of the FastCGI process manager are all read by
one scanner inside PHP (``zend_ini_scanner.l`` and ``zend_ini_parser.y``).  This module follows its rules:
constants and ``| & ^ ~ !`` between them, on/off words, quoting, ``${NAME}``, comments, special sections, and
the point at which PHP gives up on a file after a syntax error (what stood before it counts, the rest is lost).
"""

import re
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Final

import msgspec

from fundamentum.lazy_regex import lazy_regex
from fundamentum.untrusted.numbers import clipped

MAX_ENTRIES: Final = 20_000
"""A configuration file with more entries than this is not one a person wrote."""
MAX_FILLED_IN: Final = 256 * 1024
"""Characters that references of one file bring in: each may stand for others that do."""

Variables = Callable[[str], str | None]
"""Looks up ``${NAME}``; None means that the value cannot be known from here."""


class Entry(msgspec.Struct, frozen=True):
    """One ``name = value`` line.  ``value`` is what PHP makes of the text; None: it cannot be known."""

    name: str
    value: str | None
    line: int
    section: str | None = None
    key: str | None = None
    """The text between brackets in ``name[key] = value``; empty for ``name[]``."""


class IniFile(msgspec.Struct, frozen=True):
    """The entries in the order of the file, and where PHP stops reading it, if it does."""

    entries: tuple[Entry, ...]
    broken_at: int | None = None
    """The line of a syntax error.  PHP ignores everything from there on."""


class _Broken(Exception):
    pass


_TRUE = lazy_regex(r"(?:true|on|yes)[ \t]*", re.I)
_FALSE = lazy_regex(r"(?:false|off|none|null|no)[ \t]*", re.I)
_LABEL = lazy_regex(r'[^=\n\r\t;&|^$~(){}!"\[\]\x00]+')
_EQUALS = lazy_regex(r"[ \t]*=[ \t]*")
_COMMENT = lazy_regex(r"[ \t]*;[^\r\n]*(?:\r\n|\r|\n)")
_NEWLINE = lazy_regex(r"[ \t]*(?:\r\n|\r|\n)")
_SKIPPED = lazy_regex(r"(?:[ \t]*(?:;[^\r\n]*)?(?:\r\n|\r|\n))+")
_REST = lazy_regex(r"[ \t]*\Z")
_BLANK = lazy_regex(r"[ \t]+")
_CONSTANT = lazy_regex(r"[A-Za-z_][A-Za-z0-9_]*")
_TEXT = lazy_regex(r"""(?:[^$= \t\n\r;&|^~()!"'\x00]|\$(?:[^{\x00]|\\.))+""", re.S)
_RUN = lazy_regex(r"[A-Za-z0-9_ .-]+")
_RAW = lazy_regex(r"'[^']*'")
_OPERATOR = lazy_regex(r"[ \t]*([&|^~()!])[ \t]*")
_QUOTE = lazy_regex(r'[ \t]*"')
_VARIABLE = lazy_regex(r"\$\{([^=\n\r\t;&|^$~(){}!\"\[\]\x00]+)\}")
_DEFAULTED = lazy_regex(r"\$\{([^=\n\r\t;&|^$~(){}!\"\[\]\x00:]+):-([^$\n\r;:}\"\x00]*)\}")
_ENDS = lazy_regex(r"\r\n|\r|\n")
_PLAIN = lazy_regex(r"[ \t]*([A-Za-z0-9_.]+)[ \t]*=[ \t]*([A-Za-z0-9_./:,-]*)[ \t]*\n")
"""A whole line of one plain word, as most are: what :meth:`_Reader.statement` makes of it is known at once."""


def parse(text: str, constants: Mapping[str, str], variables: Variables | None = None) -> IniFile:
    """The entries of ``text``.  Never raises: a syntax error ends the file, as it does in PHP.

    ``constants`` holds the names that PHP replaces by their value when they stand unquoted (``E_ALL``).
    """
    if variables is None and "${" not in text:
        return _parse_plain(text, tuple(sorted(constants.items())))
    return _Reader(text, constants, variables or (lambda name: None)).read()


@lru_cache(maxsize=256)
def _parse_plain(text: str, constants: tuple[tuple[str, str], ...]) -> IniFile:
    """Files that depend on nothing but their text: the same handful is linked into every runtime's directory."""
    return _Reader(text, dict(constants), lambda name: None).read()


class _Reader:
    def __init__(self, text: str, constants: Mapping[str, str], variables: Variables) -> None:
        self.text, self.constants, self.variables = text, constants, variables
        self.at, self.line = 0, 1
        self.section: str | None = None
        self.unknown = False
        self.filled_in = 0
        self.entries: list[Entry] = []

    def read(self) -> IniFile:
        if self.text.startswith("\ufeff"):
            self.at = 1
        try:
            while self.at < len(self.text) and len(self.entries) < MAX_ENTRIES:
                self.statement()
        except _Broken:
            return IniFile(tuple(self.entries), self.line)
        return IniFile(tuple(self.entries))

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

    def statement(self) -> None:
        if self.take(_SKIPPED):
            return
        if self.take(_REST):
            return
        if (plain := _PLAIN.match(self.text, self.at)) and not _is_switch(plain[1]):
            self.plain_line(plain)
            return
        line = self.line
        self.take(_BLANK)
        if self.peek() == "[":
            self.at += 1
            self.section = self.section_name()
            return
        if self.peek() == ";":  # a comment that ends with the file, without a newline
            self.at = len(self.text)
            return
        label = self.take(_LABEL)
        if not label:
            raise _Broken
        name = label.group().strip(" \t")
        key = None
        if self.peek() == "[":
            self.at += 1
            key = self.offset()
        # A reserved word is no name: PHP's scanner takes it for a value, which cannot stand here.
        elif _is_switch(label.group()):
            raise _Broken
        if self.take(_EQUALS):
            self.unknown = False
            value = self.value()
            self.entries.append(Entry(name, None if self.unknown else value, line, self.section, key))
        elif key is not None:
            raise _Broken
        else:
            self.end_of_line()

    def plain_line(self, line: re.Match[str]) -> None:
        name, word = line.groups()
        value = "1" if _TRUE.fullmatch(word) else "" if _FALSE.fullmatch(word) else self.constants.get(word, word)
        self.entries.append(Entry(name, value, self.line, self.section))
        self.at = line.end()
        self.line += 1

    def section_name(self) -> str:
        name = self.bracketed(plain=self.section_piece)
        self.take(_NEWLINE)
        return name

    def section_piece(self) -> str:
        if run := self.take(_RUN):
            return run.group()
        taken = self.text[self.at : self.at + (2 if self.peek() == "\\" else 1)]
        self.at += len(taken)
        return taken

    def offset(self) -> str:
        return self.bracketed(plain=self.offset_piece).strip(" \t")

    def offset_piece(self) -> str:
        if constant := self.take(_CONSTANT):
            return self.constants.get(constant.group(), constant.group())
        self.at += 1
        return self.text[self.at - 1]

    def bracketed(self, plain: Callable[[], str]) -> str:
        """What stands before the closing bracket; ``plain`` reads what is neither quoted nor a reference."""
        out: list[str] = []
        while (char := self.peek()) != "]":
            if char == "" or char in "\r\n;":
                raise _Broken
            if raw := self.take(_RAW):
                out.append(raw.group()[1:-1])
            elif char == '"':
                self.at += 1
                out.append(self.quoted())
            elif self.text.startswith("${", self.at):
                out.append(self.variable())
            else:
                out.append(plain())
        self.at += 1
        return "".join(out)

    def value(self) -> str:
        """``string_or_value`` of the grammar: a lone on/off word, nothing, or an expression."""
        if self.take(_NEWLINE) or self.take(_COMMENT) or self.at >= len(self.text) or self.peek() == ";":
            if self.peek() == ";":
                self.skip_line()
            return ""
        if word := self.switch_word():
            self.at = word.end()
            self.end_of_line()
            return "1" if _TRUE.fullmatch(word[0]) else ""
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
        word = _TRUE.match(self.text, self.at) or _FALSE.match(self.text, self.at)
        text = _TEXT.match(self.text, self.at)
        return word if word and (text is None or text.end() <= word.end()) else None

    def end_of_line(self) -> None:
        if self.take(_NEWLINE) or self.take(_COMMENT) or self.at >= len(self.text):
            return
        if self.comment_ahead():
            self.skip_line()
            return
        raise _Broken

    def skip_line(self) -> None:
        end = _ENDS.search(self.text, self.at)
        self.at = end.end() if end else len(self.text)
        self.line += 1 if end else 0

    def expression(self, depth: int) -> str:
        if depth > 50:
            raise _Broken
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
                raise _Broken
            self.take(_OPERATOR)
            if match[1] == "(":
                inside = self.expression(depth + 1)
                closing = self.take(_OPERATOR)
                if not closing or closing[1] != ")":
                    raise _Broken
                return inside
            inner = _integer(self.operand(depth + 1))
            return str(~inner) if match[1] == "~" else ("0" if inner else "1")
        return self.string()

    def string(self) -> str:
        """``var_string_list``: words, quoted strings and references, standing side by side."""
        out: list[str] = []
        found = False
        while True:
            if self.take(_QUOTE):
                out.append(self.quoted())
            elif self.text.startswith("${", self.at):
                out.append(self.variable())
            elif (
                self.at >= len(self.text)
                or _NEWLINE.match(self.text, self.at)
                or self.comment_ahead()
                or _OPERATOR.match(self.text, self.at)
            ):
                break
            elif raw := self.take(_RAW):
                out.append(raw.group()[1:-1])
            elif self.switch_word():  # on/off words stand alone or not at all
                raise _Broken
            elif text := self.take(_TEXT):
                word = text.group()
                out.append(self.constants.get(word, word) if _CONSTANT.fullmatch(word) else word)
            elif blank := self.take(_BLANK):
                out.append(blank.group())
            else:
                break
            found = True
        if not found:
            raise _Broken
        return "".join(out)

    def comment_ahead(self) -> bool:
        blank = _BLANK.match(self.text, self.at)
        return self.text.startswith(";", blank.end() if blank else self.at)

    def quoted(self) -> str:
        out: list[str] = []
        while True:
            char = self.peek()
            if char == "":
                raise _Broken
            if char == '"':
                self.at += 1
                self.take(_BLANK)
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
            raise _Broken
        value = self.variables(match[1])
        self.filled_in += len(value or "")
        if value is None or self.filled_in > MAX_FILLED_IN:
            self.unknown = self.unknown or default is None
            return default or ""
        return value


def _is_switch(word: str) -> bool:
    return _TRUE.fullmatch(word) is not None or _FALSE.fullmatch(word) is not None


def _integer(text: str) -> int:
    """C's ``atoi``, which is what PHP applies to both sides of an operator."""
    match = re.match(r"[ \t\n\r\v\f]*([+-]?[0-9]+)", text)
    return max(min(clipped(match[1]), 2**63 - 1), -(2**63)) if match else 0
