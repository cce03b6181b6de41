"""Text of servers and applications on its way out: nothing in it may act where it arrives.

A terminal, a comment, a shell, a document of JSON: one function for each.  What Ansible reads is marked in
:mod:`fundamentum.report.plans.playbook`.
"""

import shlex
from collections.abc import Iterable
from typing import Final

import msgspec

from fundamentum.lazy_regex import lazy_regex

_STEERING: Final = lazy_regex(r"[\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff\ufff9-\ufffb]")
"""What JSON may hold as it is, and a terminal or an editor acts on."""


def clean(text: str) -> str:
    """One line of printable characters, for a terminal or a comment: others become visible escapes."""
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() else f"\\x{ord(c):02x}" if ord(c) < 256 else f"\\u{ord(c):04x}" for c in text)


def shell_word(text: str) -> str:
    """The text as one word of a POSIX shell.  A text that cannot be written so that it can be read is refused."""
    _printable(text)
    return shlex.quote(text)


def shell_words(words: Iterable[str]) -> str:
    """Several words, blanks between them."""
    return " ".join(map(shell_word, words))


def shell_lines(content: str) -> list[str]:
    """The lines of a file, each as one word; the carriage return at the end of one stands outside, by name."""
    out = []
    for line in content.removesuffix("\n").split("\n"):
        body = line.removesuffix("\r")
        _printable(body.replace("\t", " "))
        out.append(shlex.quote(body) + ('"$cr"' if body != line else ""))
    return out


def _printable(text: str) -> None:
    if any(ord(c) < 32 or c == "\x7f" for c in text) or _STEERING.search(text):
        raise ValueError("a control character where none can be")


def as_json(document: msgspec.Struct) -> str:
    """The document as JSON, indented, with a newline at its end; no character in it steers what shows it."""
    text = msgspec.json.format(msgspec.json.encode(document, enc_hook=str), indent=2).decode("utf-8") + "\n"
    return _STEERING.sub(lambda match: f"\\u{ord(match[0]):04x}", text)
