"""Apache's configuration language: the lines that are in effect, includes and conditions followed.

It is lines with words and nested sections; no well-kept parser of it exists that follows includes and conditions.
"""

import itertools
import posixpath
import re
from collections.abc import Callable, Iterator
from typing import Final

import msgspec

from fundamentum.hosts.base import Host, HostError
from fundamentum.hosts.windows_directory import windows_path
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.webservers.handoffs import Files

_MAX_DEPTH: Final = 20
_MAX_LINE: Final = 8192
"""Bytes that Apache allows a line, and a value put into it.  Source: ``MAX_STRING_LEN`` in Apache's httpd.h."""
_MAX_LINES: Final = 200_000
"""Lines of the whole configuration, included ones counted each time."""
_MAX_OF_FILE: Final = 5000
_MAX_NAMES: Final = 2000
"""Modules, and variables, of one server."""
_MAX_SECTIONS: Final = 50
"""Sections within sections."""
_WORD: Final = lazy_regex(r""""((?:[^"\\]|\\.)*)"|'((?:[^'\\]|\\.)*)'|(\S+)""")
_ESCAPED: Final = (lazy_regex(r"""\\(["\\])"""), lazy_regex(r"""\\(['\\])"""))
_SECTION: Final = lazy_regex(r"<(/?)([A-Za-z]+)\s*(.*?)>?\s*$")
_CONDITIONS: Final = frozenset({"ifmodule", "ifdefine", "iffile", "macro"})
"""Sections of which it can be told whether they hold.  Others (``<IfVersion>``) are sections like any."""
_DECIDING: Final = lazy_regex(
    r"php_(?:admin_)?(?:value|flag)|setenv.*|proxyfcgisetenvif|allowoverride.*|phpinidir", re.I
)


MACRO: Final = "use of a macro"
"""The name of lines that use a macro which says nothing about PHP's configuration."""


class Section(msgspec.Struct, frozen=True):
    """One section that a line stands in.  Two may begin with the same words; their numbers differ."""

    kind: str
    words: str
    number: int
    origin: Origin = BUILT_IN


class Line(msgspec.Struct, frozen=True):
    """One directive that is in effect, with the sections it stands in, outermost first."""

    name: str
    words: tuple[str, ...]
    origin: Origin
    inside: tuple[Section, ...]

    def within(self, *kinds: str) -> Section | None:
        """The innermost section of one of these kinds."""
        return next((section for section in reversed(self.inside) if section.kind in kinds), None)


class Reader:
    """Follows includes and conditions, as the server does when it starts."""

    def __init__(self, files: Files, root: str) -> None:
        self.files, self.root = files, root
        self.sections = 0
        self.modules: dict[str, str] = {}
        self._left = _MAX_LINES
        self._known: set[str] = set()
        """The names by which conditions know the modules that are loaded."""
        self._in_macro = False
        """Whether a part that does not count by itself says something about PHP's configuration."""
        self.defines: dict[str, str] = {}
        for name, value in re.findall(
            r"^[ \t]*(?:export[ \t]+)?(APACHE_\w+)=([^\s#]*)", files.text(f"{root}/envvars") or "", re.M
        ):
            self.defines[name] = value.replace("$SUFFIX", "").strip("\"'")

    def lines(self, path: str, inside: tuple[Section, ...], depth: int) -> Iterator[Line]:
        """The directives in effect, in the order in which they are read."""
        text = self.files.text(path) if depth < _MAX_DEPTH else None
        stack = list(inside)
        skipping = 0
        for number, content in _joined(text or ""):
            self._left -= 1
            if self._left < 0:
                raise HostError(f"{path}:{number}: more than {_MAX_LINES:,} lines: sites from there on are unknown")
            if section := _SECTION.match(content):
                closing, kind, words = section[1] == "/", section[2].lower(), self._filled(section[3])
                if kind in _CONDITIONS:
                    if closing:
                        skipping -= 1 if skipping else 0
                    elif skipping or not self.holds(kind, words):
                        skipping += 1
                elif skipping:
                    continue
                elif closing:
                    while stack and stack.pop().kind != kind:
                        pass
                else:
                    self.sections += 1
                    if len(stack) >= _MAX_SECTIONS:
                        raise HostError(f"{path}:{number}: nested too deeply: sites from there on are unknown")
                    place = Origin(path, number)
                    stack.append(Section(kind, " ".join(_words(words)), self.sections, place))
                    if kind == "proxy":  # what it says behind the address, it says as if in a line within
                        yield Line("proxyset", tuple(_words(words)[1:]), place, tuple(stack))
                continue
            filled = _words(self._filled(content))
            if skipping or not filled:
                self._in_macro |= bool(skipping and filled and _DECIDING.fullmatch(filled[0]))
                continue
            line = Line(filled[0].lower(), tuple(filled[1:]), Origin(path, number), tuple(stack))
            yield from self._taken(line, depth)

    def _taken(self, line: Line, depth: int) -> Iterator[Line]:
        first = line.words[0] if line.words else ""
        match line.name:
            case "include" | "includeoptional" if first:
                for path in self._included(first):
                    yield from self.lines(path, line.inside, depth + 1)
            case "loadmodule" if len(line.words) > 1 and len(self.modules) < _MAX_NAMES:
                self.modules[first] = line.words[1]
                self._known |= {first, *_sources(first, line.words[1])}
            case "define" if first and len(self.defines) < _MAX_NAMES:
                self.defines[first] = line.words[1] if len(line.words) > 1 else ""
            case "use" if not self._in_macro:
                yield msgspec.structs.replace(line, name=MACRO)  # none here says anything about PHP's configuration
            case "serverroot" if first.startswith("/"):
                self.root = first
            case _:
                yield line

    def _included(self, pattern: str) -> list[str]:
        words = []
        for path in self.files.included(self.root, windows_style(self.files.host, pattern)):
            about = self.files.host.stat(path)
            words += self.files.included(path, "*") if about and about.is_directory else [path]
        return words

    def _filled(self, text: str) -> str:
        """The text with variables filled in, as long as the result is a line that Apache would take."""
        if "${" not in text:
            return text
        parts: list[str] = []
        size = 0
        for part in re.split(r"(\$\{\w+\})", text):
            filled = self.defines.get(part[2:-1], part) if part.startswith("${") else part
            size += len(filled)
            if size > _MAX_LINE:
                return text
            parts.append(filled)
        return "".join(parts)

    def holds(self, kind: str, words: str) -> bool:
        """Whether what stands in such a section counts."""
        name = words.strip().strip("\"'")
        wanted = not name.startswith("!")
        name = name.lstrip("!")
        if kind == "ifdefine":
            return (name in self.defines) is wanted
        if kind == "ifmodule":
            return (name in self._known) is wanted
        if kind == "iffile":
            path = posixpath.join(self.root, windows_style(self.files.host, name))
            return (self.files.host.stat(path) is not None) is wanted
        return False  # the body of a macro counts where it is used


def lines_of(path: str, text: str, holds: Callable[[str, str], bool]) -> Iterator[Line]:
    """The lines of a file that includes nothing, such as a ``.htaccess``, those that begin a section among them.

    ``holds`` tells whether a condition does.
    """
    stack: list[Section] = []
    skipping = 0
    for number, content in itertools.islice(_joined(text), _MAX_OF_FILE):
        if section := _SECTION.match(content):
            closing, kind = section[1] == "/", section[2].lower()
            if kind in _CONDITIONS:
                if closing:
                    skipping -= 1 if skipping else 0
                elif skipping or not holds(kind, section[3]):
                    skipping += 1
            elif skipping:
                continue
            elif closing:
                while stack and stack.pop().kind != kind:
                    pass
            elif len(stack) < _MAX_SECTIONS:
                words, place = _words(section[3]), Origin(path, number)
                yield Line(f"<{kind}", tuple(words), place, tuple(stack))
                stack.append(Section(kind, " ".join(words), number, place))
        elif not skipping and (said := _words(content)):
            yield Line(said[0].lower(), tuple(said[1:]), Origin(path, number), tuple(stack))


def _sources(name: str, file: str) -> tuple[str, ...]:
    """The source file names by which ``<IfModule>`` knows a module."""
    plain = name.removesuffix("_module")
    if plain == "php":
        version = re.search(r"php(\d)", posixpath.basename(file))
        return ("mod_php.c", f"mod_php{version[1]}.c" if version else "mod_php8.c")
    return (f"mod_{plain}.c", f"{plain}.c")


def _joined(text: str) -> Iterator[tuple[int, str]]:
    """Lines without comments, those ended by a backslash joined to the next; each with its number."""
    held: list[str] = []
    start = 0
    for number, line in enumerate(text.split("\n"), 1):
        start = start or number
        if line.endswith("\\"):
            held.append(line[:-1] + " ")
            continue
        content = "".join((*held, line)).strip() if held else line.strip()
        if content and not content.startswith("#") and len(content) <= _MAX_LINE:
            yield start, content
        held, start = [], 0


def _words(text: str) -> list[str]:
    """The words of a line.  In quotes a backslash stands before a quote, or another one (``ap_getword_conf``)."""
    words = []
    for match in _WORD.finditer(text):
        double, single, plain = match.groups()
        quoted, escaped = (double, _ESCAPED[0]) if double is not None else (single, _ESCAPED[1])
        words.append(plain if quoted is None else escaped.sub(lambda at: at[1], quoted))
    return words


def windows_style(host: Host, path: str) -> str:
    """``C:/bundle/conf`` as a place in the tree that is looked at."""
    return windows_path(host, path, "/") if re.match(r"[A-Za-z]:[\\/]", path) else path
