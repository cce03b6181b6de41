"""The shell functions that scripts are written in, of which a script has those that it uses, and no others."""

import re
import textwrap
from collections.abc import Collection, Iterable
from functools import cache
from pathlib import Path
from typing import Final

import msgspec

from fundamentum import webservers
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.file_mark import LEFTOVER
from fundamentum.platforms import platform, text_of
from fundamentum.report.escape import shell_words
from fundamentum.webservers import webserver

_FOLDER: Final = Path(__file__).with_name("shell")
_PARTS: Final = (
    "beginning",
    "options",
    "looks",
    "journal",
    "once",
    "packages",
    "files",
    "directories",
    "services",
    "database",
    "proof",
    "ending",
)
"""In this order: what stands in them outside of functions is done at once."""
AT_LINES: Final = (_FOLDER / "at_lines.awk").read_text("utf-8")
"""A program for awk: whether the lines of a diff, those it takes away or those it brings, stand where it names them."""
_BEGINS: Final = lazy_regex(r"([a-z_]+)\(\) \{")


class Part(msgspec.Struct, frozen=True):
    """A function with the comment above it, or lines that are always there (``name`` empty)."""

    name: str
    lines: tuple[str, ...]


def introduction() -> list[str]:
    """How a script is used: the comment it begins with."""
    text = (_FOLDER / "beginning.sh").read_text("utf-8")
    return text[: text.index("set -eu")].splitlines()


def functions_for(family: str, body: Iterable[str], besides: tuple[str, ...] = ()) -> list[str]:
    """What the lines of a script rest on, in order; the platform's own words among it.

    ``besides`` are parts of the library that are left out.
    """
    parts, code, always = _library(family, besides)
    wanted = _calls(body) | always
    used: set[str] = set()
    while needed := (wanted & code.keys()) - used:
        used |= needed
        wanted = wanted.union(*(code[name] for name in needed))
    lines = [line for part in parts if not part.name or part.name in used for line in part.lines]
    return [line for line, before in zip(lines, ("", *lines), strict=False) if line or before]


@cache
def _library(family: str, besides: tuple[str, ...]) -> tuple[list[Part], dict[str, set[str]], set[str]]:
    """The parts in order, what each function calls, and what is called outside of functions."""
    parts = list(_parts(_whole(family, besides)))
    code = {part.name: _calls(part.lines) for part in parts if part.name}
    return parts, code, set().union(*(_calls(part.lines) for part in parts if not part.name))


def _whole(family: str, besides: Collection[str]) -> str:
    of = platform(family)
    read = (*of.read_by_php, *(path for name in webservers.names() for path in webserver(name).read_when_started))
    text = "\n".join((_FOLDER / f"{part}.sh").read_text("utf-8") for part in _PARTS if part not in besides)
    text = text[text.index("set -eu") :].partition("\n")[2].replace("%READ_BY_SERVICES%", shell_words(read))
    text = text.replace("%LEFTOVER%", LEFTOVER)
    text = text.replace("%AT_LINES%", textwrap.indent(AT_LINES.rstrip(), " " * 8))
    return text + text_of(family, "script.sh")


def _parts(text: str) -> Iterable[Part]:
    above: list[str] = []
    lines = iter(text.splitlines())
    for line in lines:
        if line.startswith("#"):
            above.append(line)
        elif match := _BEGINS.match(line):
            block = [line]
            while not re.match(r"\}|\S.*\}(?: *#.*)?$", block[-1]):
                block.append(next(lines))
            yield Part(match[1], (*above, *block))
            above = []
        else:
            yield Part("", (*above, line))
            above = []


def _calls(lines: Iterable[str]) -> set[str]:
    """The words of lines that stand where a command can."""
    # Whichever begins first: what is quoted may hold the sign of a comment, and a comment an apostrophe.
    code = re.sub(r"'[^']*'|(?:^|(?<=\s))#.*$", "", "\n".join(lines), flags=re.M)
    return set(re.findall(r"\btrap ([a-z_]+) ", code)) | set(
        re.findall(r"(?:^|[;&|({!`)]|\b(?:then|do|else|if|while)\s)\s*(?=([a-z_]+)(?![=\w]))", code, re.M)
    )
