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
from fundamentum.php_files.ini_values import (
    BLANK,
    CONSTANT,
    FALSE,
    NEWLINE,
    RAW,
    TRUE,
    Broken,
    Values,
    Variables,
    is_switch,
)

MAX_ENTRIES: Final = 20_000
"""A configuration file with more entries than this is not one a person wrote."""
_SKIPPED = lazy_regex(r"(?:[ \t]*+(?:;[^\r\n]*+)?(?:\r\n|\r|\n))++")
_REST = lazy_regex(r"[ \t]*+\Z")
_LABEL = lazy_regex(r'[^=\n\r\t;&|^$~(){}!"\[\]\x00]+')
_EQUALS = lazy_regex(r"[ \t]*=[ \t]*")
_RUN = lazy_regex(r"[A-Za-z0-9_ .-]+")
_PLAIN = lazy_regex(r"[ \t]*+([A-Za-z0-9_.]++)[ \t]*+=[ \t]*+([A-Za-z0-9_./:,-]*+)[ \t]*+\n")
"""A whole line of one plain word, as most are: what :meth:`_Reader.statement` makes of it is known at once."""


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


class _Reader(Values):
    def __init__(self, text: str, constants: Mapping[str, str], variables: Variables) -> None:
        super().__init__(text, constants, variables)
        self.section: str | None = None
        self.entries: list[Entry] = []

    def read(self) -> IniFile:
        if self.text.startswith("\ufeff"):
            self.at = 1
        try:
            while self.at < len(self.text) and len(self.entries) < MAX_ENTRIES:
                self.statement()
        except Broken:
            return IniFile(tuple(self.entries), self.line)
        return IniFile(tuple(self.entries))

    def statement(self) -> None:
        if self.take(_SKIPPED):
            return
        if self.take(_REST):
            return
        if (plain := _PLAIN.match(self.text, self.at)) and not is_switch(plain[1]):
            self.plain_line(plain)
            return
        line = self.line
        self.take(BLANK)
        if self.peek() == "[":
            self.at += 1
            self.section = self.section_name()
            return
        if self.peek() == ";":  # a comment that ends with the file, without a newline
            self.at = len(self.text)
            return
        label = self.take(_LABEL)
        if not label:
            raise Broken
        name = label.group().strip(" \t")
        key = None
        if self.peek() == "[":
            self.at += 1
            key = self.offset()
        # A reserved word is no name: PHP's scanner takes it for a value, which cannot stand here.
        elif is_switch(label.group()):
            raise Broken
        if self.take(_EQUALS):
            self.unknown = False
            value = self.value()
            self.entries.append(Entry(name, None if self.unknown else value, line, self.section, key))
        elif key is not None:
            raise Broken
        else:
            self.end_of_line()

    def plain_line(self, line: re.Match[str]) -> None:
        name, word = line.groups()
        self.unknown = False
        value = "1" if TRUE.fullmatch(word) else "" if FALSE.fullmatch(word) else self.constant(word)
        self.entries.append(Entry(name, None if self.unknown else value, self.line, self.section))
        self.at = line.end()
        self.line += 1

    def section_name(self) -> str:
        name = self.bracketed(plain=self.section_piece)
        self.take(NEWLINE)
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
        if constant := self.take(CONSTANT):
            return self.constant(constant.group())
        self.at += 1
        return self.text[self.at - 1]

    def bracketed(self, plain: Callable[[], str]) -> str:
        """What stands before the closing bracket; ``plain`` reads what is neither quoted nor a reference."""
        out: list[str] = []
        while (char := self.peek()) != "]":
            if char == "" or char in "\r\n;":
                raise Broken
            if raw := self.take(RAW):
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
