"""What Apache hands PHP files to: the lines that name a handler for them, and which of them wins.

Source: Apache's documentation of handlers, mod_mime, mod_proxy, mod_proxy_fcgi, mod_fcgid and mod_rewrite; that a
``SetHandler`` outdoes every ``AddHandler`` and ``AddType``, wherever they stand, was asked of real servers.
"""

import re
from collections.abc import Collection, Mapping, Sequence
from typing import Final, Literal

import msgspec

from fundamentum.hosts.base import Host
from fundamentum.lazy_regex import lazy_regex
from fundamentum.webservers.apache2.lines import Line, Section, windows_style
from fundamentum.webservers.apache2.merging import CONDITIONS, never_counts, rank
from fundamentum.webservers.visit_questions import Unclear

PLACES: Final = frozenset({"directory", "directorymatch", "location", "locationmatch"})
Kind = Literal["socket", "module", "program", "web", "unclear", "none"]
"""As :attr:`~fundamentum.webservers.handoffs.Handoff.kind` has it; ``none``: no PHP."""
_PHP_TYPE: Final = lazy_regex(r"application/x-httpd-(?:ea-)?php[0-9.]*")
_CONDITIONAL: Final = (*CONDITIONS, "limit", "limitexcept", "ifversion", "ifdirective", "ifsection")
_IS_THERE: Final = lazy_regex(r"-[fes] +%\{(?:REQUEST_FILENAME|SCRIPT_FILENAME)\}")
"""A condition that holds for every script that is there."""
TYPED, ADDED, SET, PASSED = 0, 1, 2, 3
"""Ways of naming a handler: by a file's type, by its ending, by place, and before files are looked at all."""
EXCEPTED: Final = "!"
"""The target of a line after which those of its way count no more: ``ProxyPass … !``, ``SetHandler None``."""
FCGID: Final = "fcgid-script"
"""The handler of mod_fcgid."""


class Handler(msgspec.Struct, frozen=True):
    """One line that hands PHP files to something."""

    line: Line
    """Where it counts is told by the sections it stands in; a pattern of its own is one of these."""
    way: int
    kind: Kind
    target: str
    by: str = ""
    """The handler, or the type of files, for which a program is named elsewhere."""

    @property
    def place(self) -> Section | None:
        """The directory or the address that it is for."""
        return self.line.within(*PLACES)

    @property
    def fcgid(self) -> bool:
        """Whether it is run by mod_fcgid, which has limits of its own."""
        return self.by == FCGID


def winner(handlers: Sequence[Handler], uri: str, folder: str) -> Handler | None:
    """What a script with that address, whose file lies in that directory, is handed to; None: nothing says so."""
    best: tuple[tuple[int, ...], Handler] | None = None
    for at, handler in enumerate(handlers):
        try:
            rank_there = rank(handler.line, uri, folder)
        except Unclear:
            rank_there, handler = (1, 0), msgspec.structs.replace(handler, kind="unclear", target="")
        if rank_there is None:
            continue
        # Of lines that pass requests on by address, the first one counts, the host's own before the server's.
        own = int(handler.line.within("virtualhost") is not None)
        order = (handler.way, own, -at) if handler.way == PASSED else (handler.way, *rank_there, at)
        if best is None or order > best[0]:
            best = order, handler
    if best and best[1].target == EXCEPTED:
        return winner([handler_of for handler_of in handlers if handler_of.way < best[1].way], uri, folder)
    return best[1] if best else None


def handler_of(host: Host, line: Line, modules: Mapping[str, str], types: Collection[str]) -> Handler | None:
    """What a line hands PHP files to; None where it does not, or that is not known.

    ``types`` are those of files, and handlers, for which a program is named elsewhere.
    """
    first, rest = (line.words[0], line.words[1:]) if line.words else ("", ())
    handed: tuple[Kind, str] | None = None
    way = SET
    match line.name:
        case "sethandler":
            handed = _set(host, first, modules, types)
        case "addhandler" | "addtype" if any(e.lstrip(".") == "php" for e in rest):
            handed = _socket(first[6:]) if first.lower().startswith("proxy:") else _inside(host, first, modules, types)
            way = ADDED if line.name == "addhandler" else TYPED
        case "removehandler" | "removetype" if any(e.lstrip(".") == "php" for e in line.words):
            handed, way = ("none", ""), ADDED if line.name == "removehandler" else TYPED
        case "proxypass" | "proxypassmatch" if first and line.within("location", "locationmatch"):
            handed, way = _passed(first), PASSED
        case "proxypassmatch" | "proxypass" if rest:
            handed, way = _passed(rest[0]), PASSED
            pattern = Section("locationmatch" if line.name.endswith("match") else "location", first, 0, line.origin)
            line = msgspec.structs.replace(line, inside=(*line.inside, pattern))
        case "rewriterule" if rest and (passed := _rewritten(rest)):
            handed, way = passed, PASSED
            below = line.within("directory") and first.startswith("^")
            pattern = Section("locationmatch", f"^/(?:.*/)?{first[1:]}" if below else first, 0, line.origin)
            line = msgspec.structs.replace(line, inside=(*line.inside, pattern))
    if handed is None or never_counts(line):
        return None
    if depends(line):
        handed = ("unclear", "")
    return Handler(line, way, *handed, by=first if handed[0] == "program" else "")


def depends(line: Line) -> bool:
    """Whether a request decides if it counts, or something else that is not known here."""
    return any(
        section.kind in _CONDITIONAL and not (section.kind == "if" and _IS_THERE.fullmatch(section.words))
        for section in line.inside
    )


def _set(host: Host, first: str, modules: Mapping[str, str], types: Collection[str]) -> tuple[Kind, str] | None:
    """What a ``SetHandler`` names: something else than PHP keeps PHP from it."""
    if first.lower().startswith("proxy:"):
        return _socket(first[6:]) or ("unclear", "")
    if first in types or first == FCGID or _PHP_TYPE.fullmatch(first) or re.fullmatch(r"php\d?-script", first):
        return _inside(host, first, modules, types)
    return None if "php" in first.lower() else ("none", EXCEPTED if first.lower() == "none" else "")


def _rewritten(words: Sequence[str]) -> tuple[Kind, str] | None:
    """What a ``RewriteRule`` hands files to, by its flag ``P`` or ``H``."""
    to, flags = words[0], re.sub(r"^\[|\]$", "", " ".join(words[1:])).split(",")
    for name, _, value in (flag.strip().partition("=") for flag in flags):
        if name.upper() in ("P", "PROXY"):
            return _socket(to) or _web(re.sub(r"\Aws(?=s?://)", "http", to))
        if name.upper() in ("H", "HANDLER") and value.lower().startswith("proxy:"):
            return _socket(value[6:])
        if name.upper() in ("H", "HANDLER"):
            return "unclear", ""
    return None


def _socket(text: str) -> tuple[Literal["socket"], str] | None:
    """``unix:/run/php.sock|fcgi://localhost`` or ``fcgi://127.0.0.1:9000/srv``."""
    if match := re.match(r"unix:([^|]+)\|fcgi:", text):
        return "socket", f"unix:{match[1]}"
    match = re.match(r"fcgi://([^/]+)", text)
    return ("socket", match[1]) if match else None


def _web(text: str) -> tuple[Literal["web"], str] | None:
    """``http://127.0.0.1:8080/``: another web server."""
    match = re.match(r"https?://([^/:]+)(:\d+)?(?:/|$)", text)
    return ("web", match[1] + (match[2] or ":80")) if match else None


def _passed(to: str) -> tuple[Kind, str] | None:
    """What requests are passed to; by ``!`` to nothing."""
    return ("none", EXCEPTED) if to == EXCEPTED else _socket(to) or _web(to)


def _inside(
    host: Host, kind: str, modules: Mapping[str, str], types: Collection[str]
) -> tuple[Literal["module", "program"], str] | None:
    if re.fullmatch(r"application/x-httpd-php|php\d?-script", kind):
        module = next((file for name, file in modules.items() if re.fullmatch(r"php\d?_module", name)), None)
        if module:
            return "module", windows_style(host, module)
    return ("program", "") if kind in types or kind == FCGID else None
