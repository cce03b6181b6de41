"""A file's code without comments, strings and text, and the words in it, at the speed of the interpreter's C code."""

import re
from typing import Final

NAMING: Final = frozenset(byte for byte in range(256) if chr(byte).isalnum() or byte == 95 or byte >= 128)
# Everything that cannot be part of a name becomes a blank.
_TABLE: Final = bytes(byte if byte in NAMING else 32 for byte in range(256))
# Comments, strings, text outside PHP, text blocks.  Each way begins with a character of its own: that, and no group
# around them, lets the matcher skip at full speed to the next place where one can begin.  Most strings have no escape
# in them; ways without a loop for those come first.  No way ever has to be taken back, hence the ``+`` after each.
_WAYS: Final = (
    rb"""'[^'\\]*+'|"[^"\\]*+"|//[^\n?]*+(?=\n)"""
    rb"""|//[^\n?]*+(?:\?(?!>)[^\n?]*+)*+"""
    rb"""|\#(?!\[)[^\n?]*+(?:\?(?!>)[^\n?]*+)*+"""
    rb"""|/\*[^*]*+\*++(?:[^/*][^*]*+\*++)*+/"""
    rb"""|'[^'\\]*+(?:\\.[^'\\]*+)*+'"""
    rb"""|"[^"\\]*+(?:\\.[^"\\]*+)*+\""""
    rb"""|\?>[^<]*+(?:<(?!\?(?![xX][mM][lL]))[^<]*+)*+(?:<\?|\Z)"""
)
_NO_CODE: Final = re.compile(_WAYS, re.S)
_UNENDED: Final = re.compile(_WAYS + rb"""|/\*.*+|(['"].*+)""", re.S)
"""The same, and a comment and a string that nothing ends: it is looked for the end of each but once."""
MAX_LOOKED_FOR: Final = 200_000_000
"""Bytes that it may cost to look for what ends nowhere."""


def _without_strings(text: bytes) -> bytes:
    """The text with quotes for each comment, string and text of a page; a string that nothing ends may be none."""
    unended = text.count(b"/*", text.rfind(b"*/") + 1) + text.count(b"\\'") + text.count(b'\\"')
    if unended * len(text) < MAX_LOOKED_FOR:
        return _NO_CODE.sub(b"''", text)
    return _UNENDED.sub(lambda match: match[1] or b"''", text)


_BLOCK: Final = re.compile(rb"""<<<[ \t]*(['"]?)(\w+)\1\r?\n""")


def code_of(data: bytes) -> tuple[bytes, bool]:
    """The code in a file, in lower case: no comments, strings, text.  Quick, and right but for the oddest files.

    Second, whether there may be blocks of text (``<<<END``) in the file.
    """
    start = data.find(b"<?")
    if start < 0:
        return b"", False
    text = data[start + (5 if data[start : start + 5] == b"<?php" else 2) :]
    code = _without_strings(text)
    # The first block's beginning stands in the code, whatever its text may have been taken for.
    blocks = b"<<<" in code
    return (_without_strings(_without_blocks(text)) if blocks else code).lower(), blocks


def _without_blocks(text: bytes) -> bytes:
    """The text without its text blocks (``<<<END``).  A label that ends nowhere is looked for once only."""
    out: list[bytes] = []
    endless: set[bytes] = set()
    at = 0
    while match := _BLOCK.search(text, at):
        label = match[2]
        end = None
        if label not in endless:
            end = re.compile(rb"^[ \t]*" + label + rb"\b", re.M).search(text, match.end())
        if end is None:
            endless.add(label)
            out.append(text[at : match.end()])
            at = match.end()
        else:
            out += (text[at : match.start()], b"''")
            at = end.end()
    return b"".join((*out, text[at:]))


def all_words(code: bytes) -> frozenset[bytes]:
    """Every word in code, each once."""
    return frozenset(code.translate(_TABLE).split())
