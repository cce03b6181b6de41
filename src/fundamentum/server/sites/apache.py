"""Apache: which handler each virtual host gives to PHP files.

Its configuration language is lines with words and nested sections; no well-kept parser of it exists that follows
includes and conditions, so the few rules that matter here are this module.
"""

import posixpath
import re
from collections.abc import Iterator
from typing import Final, Literal

import msgspec

from fundamentum.server.hosts import Host
from fundamentum.server.layouts.windows import folders
from fundamentum.server.model import Remark, System
from fundamentum.server.probes.php_modules import windows_path
from fundamentum.server.sites import Files, Found, Handoff

MAIN: Final = ("/etc/apache2/apache2.conf", "/etc/httpd/conf/httpd.conf", "/usr/local/apache2/conf/httpd.conf")
_MAX_DEPTH: Final = 20
_WORD: Final = re.compile(r'"((?:[^"\\]|\\.)*)"|\'([^\']*)\'|(\S+)')
_SECTION: Final = re.compile(r"<(/?)([A-Za-z]+)\s*(.*?)>?\s*$")
_CONDITIONS: Final = frozenset({"ifmodule", "ifdefine", "ifversion", "iffile", "ifdirective", "ifsection"})
_PLACES: Final = frozenset({"directory", "directorymatch", "location", "locationmatch"})
_PHP_TYPE: Final = re.compile(r"application/x-httpd-(?:ea-)?php[0-9.]*")


class Section(msgspec.Struct, frozen=True):
    """One section that a line stands in.  Two may begin with the same words; their numbers differ."""

    kind: str
    words: str
    number: int


class Line(msgspec.Struct, frozen=True):
    """One directive that is in effect, with the sections it stands in, outermost first."""

    name: str
    words: tuple[str, ...]
    origin: str
    inside: tuple[Section, ...]

    def within(self, *kinds: str) -> Section | None:
        """The innermost section of one of these kinds."""
        return next((one for one in reversed(self.inside) if one.kind in kinds), None)


class Handler(msgspec.Struct, frozen=True):
    """One line that gives PHP files to something."""

    place: Section | None
    rank: int
    """Files sections outrank directories, locations outrank both, and what is passed on by address comes first."""
    kind: Literal["socket", "module", "program", "unclear"]
    target: str
    origin: str


class VirtualHost(msgspec.Struct):
    """A virtual host, or the main server."""

    names: list[str] = msgspec.field(default_factory=list)
    root: str | None = None
    handlers: list[Handler] = msgspec.field(default_factory=list)


def read(host: Host, system: System) -> Found:
    """The handoffs of all virtual hosts.  Source: Apache's documentation of sections, handlers and proxying."""
    handoffs: list[Handoff] = []
    files = Files(host, "Apache")
    for main, root in _mains(host, system):
        reader = _Reader(files, root)
        lines = list(reader.lines(main, (), 0))
        handoffs += _handoffs(host, lines, reader)
    return handoffs, files.read, files.remarks


def _mains(host: Host, system: System) -> Iterator[tuple[str, str]]:
    """Main configuration files, and the directory that relative paths in them start from."""
    if system.family == "windows":
        for folder, names in folders(host):
            if posixpath.basename(folder).lower() == "conf" and "httpd.conf" in names:
                yield posixpath.join(folder, "httpd.conf"), posixpath.dirname(folder)
        return
    for path in MAIN:
        if host.stat(path):
            yield path, "/etc/apache2" if "apache2.conf" in path else posixpath.dirname(posixpath.dirname(path))


class _Reader:
    """Follows includes and conditions, as the server does when it starts."""

    def __init__(self, files: Files, root: str) -> None:
        self.files, self.root = files, root
        self.sections = 0
        self.modules: dict[str, str] = {}
        self.defines: dict[str, str] = {}
        for name, value in re.findall(
            r"^\s*(?:export\s+)?(APACHE_\w+)=([^\s#]*)", files.text(f"{root}/envvars") or "", re.M
        ):
            self.defines[name] = value.replace("$SUFFIX", "").strip("\"'")

    def lines(self, path: str, inside: tuple[Section, ...], depth: int) -> Iterator[Line]:
        """The directives in effect, in the order in which they are read."""
        text = self.files.text(path) if depth < _MAX_DEPTH else None
        stack = list(inside)
        skipping = 0
        for number, content in _joined(text or ""):
            if section := _SECTION.match(content):
                closing, kind, words = section[1] == "/", section[2].lower(), self._filled(section[3])
                if kind in _CONDITIONS:
                    if closing:
                        skipping -= 1 if skipping else 0
                    elif skipping or not self._holds(kind, words):
                        skipping += 1
                elif skipping:
                    continue
                elif closing:
                    while stack and stack.pop().kind != kind:
                        pass
                else:
                    self.sections += 1
                    stack.append(Section(kind, " ".join(_words(words)), self.sections))
                continue
            found = _words(self._filled(content))
            if skipping or not found:
                continue
            line = Line(found[0].lower(), tuple(found[1:]), f"{path}:{number}", tuple(stack))
            yield from self._taken(line, depth)

    def _taken(self, line: Line, depth: int) -> Iterator[Line]:
        first = line.words[0] if line.words else ""
        match line.name:
            case "include" | "includeoptional" if first:
                for path in self._included(first):
                    yield from self.lines(path, line.inside, depth + 1)
            case "loadmodule" if len(line.words) > 1:
                self.modules[first] = line.words[1]
            case "define" if first:
                self.defines[first] = line.words[1] if len(line.words) > 1 else ""
            case "serverroot" if first.startswith("/"):
                self.root = first
            case _:
                yield line

    def _included(self, pattern: str) -> list[str]:
        found = []
        for path in self.files.included(self.root, windows_style(self.files.host, pattern)):
            about = self.files.host.stat(path)
            found += self.files.included(path, "*") if about and about.is_directory else [path]
        return found

    def _filled(self, text: str) -> str:
        return re.sub(r"\$\{(\w+)\}", lambda m: self.defines.get(m[1], m[0]), text)

    def _holds(self, kind: str, words: str) -> bool:
        name = words.strip().strip("\"'")
        wanted = not name.startswith("!")
        name = name.lstrip("!")
        if kind == "ifdefine":
            return (name in self.defines) is wanted
        if kind == "ifmodule":
            return (name in self.modules or any(name in _sources(*one) for one in self.modules.items())) is wanted
        return wanted


def _sources(name: str, file: str) -> tuple[str, ...]:
    """The source file names by which ``<IfModule>`` knows a module."""
    plain = name.removesuffix("_module")
    if plain == "php":
        version = re.search(r"php(\d)", posixpath.basename(file))
        return ("mod_php.c", f"mod_php{version[1]}.c" if version else "mod_php8.c")
    return (f"mod_{plain}.c", f"{plain}.c")


def _joined(text: str) -> Iterator[tuple[int, str]]:
    """Lines without comments, those ended by a backslash joined to the next; each with its number."""
    held, start = "", 0
    for number, line in enumerate(text.split("\n"), 1):
        start = start or number
        if line.endswith("\\"):
            held += line[:-1] + " "
            continue
        content = (held + line).strip()
        if content and not content.startswith("#"):
            yield start, content
        held, start = "", 0


def _words(text: str) -> list[str]:
    return [next(part for part in match.groups() if part is not None) for match in _WORD.finditer(text)]


def windows_style(host: Host, path: str) -> str:
    """``C:/bundle/conf`` as a place in the tree that is looked at."""
    return windows_path(host, path, "/") if re.match(r"[A-Za-z]:[\\/]", path) else path


def _handoffs(host: Host, lines: list[Line], reader: _Reader) -> Iterator[Handoff]:
    main = VirtualHost()
    virtual: dict[int, VirtualHost] = {}
    programs = _programs(lines)
    for line in lines:
        section = line.within("virtualhost")
        mine = virtual.setdefault(section.number, VirtualHost()) if section else main
        match line.name:
            case "servername" if line.words:
                mine.names.insert(0, re.sub(r"^\w+://|:\d+$", "", line.words[0]))
            case "serveralias":
                mine.names += line.words
            case "documentroot" if line.words:
                mine.root = windows_style(host, line.words[0])
            case "php_value" | "php_flag" | "php_admin_value" | "php_admin_flag" if line.words[:1] != ("engine",):
                what = f"{line.origin}: sets {' '.join(line.words[:1])} for one site or directory only; not judged"
                reader.files.remarks.append(Remark("web sites", what))
            case _:
                found = _handler(host, line, reader.modules, programs)
                mine.handlers += [found] if found else []
    for mine in virtual.values() or [main]:
        yield from _of_host(mine, main)


def _programs(lines: list[Line]) -> dict[str, str]:
    """Type of a file → the CGI program that an ``Action`` line runs for it."""
    aliases = {line.words[0]: line.words[1] for line in lines if line.name == "scriptalias" and len(line.words) > 1}
    found = {}
    for line in lines:
        if line.name == "action" and len(line.words) > 1:
            path = line.words[1]
            alias = next((one for one in sorted(aliases, key=len, reverse=True) if path.startswith(one)), None)
            found[line.words[0]] = aliases[alias] + path[len(alias) :] if alias else path
    return found


def _handler(host: Host, line: Line, modules: dict[str, str], programs: dict[str, str]) -> Handler | None:
    first, rest = (line.words[0], line.words[1:]) if line.words else ("", ())
    files = line.within("filesmatch", "files")
    if files and "ph" not in files.words.lower():
        return None
    place = line.within(*_PLACES)
    rank = 2 if place and place.kind.startswith("location") else 1 if files else 0
    found: tuple[Literal["socket", "module", "program", "unclear"], str] | None = None
    match line.name:
        case "sethandler":
            found = _socket(first.removeprefix("proxy:")) if first.startswith("proxy:") else None
            found = found or (_inside(host, first, modules, programs) if _PHP_TYPE.fullmatch(first) else None)
        case "addhandler" | "addtype" if _PHP_TYPE.fullmatch(first) and any(e.lstrip(".") == "php" for e in rest):
            found = _inside(host, first, modules, programs)
        case "proxypassmatch" | "proxypass" if rest:
            found, rank = _socket(rest[0]), 3
            whole = "ph" in first.lower() and line.name == "proxypassmatch"
            place = place if whole or first == "/" else Section("location", first, 0)
        case "fcgidwrapper" if not rest or rest[0].lstrip(".") == "php":
            found = ("program", windows_style(host, first.split()[0] if first else ""))
    return Handler(place, rank, *found, line.origin) if found else None


def _socket(text: str) -> tuple[Literal["socket"], str] | None:
    """``unix:/run/php.sock|fcgi://localhost`` or ``fcgi://127.0.0.1:9000/srv``."""
    if match := re.match(r"unix:([^|]+)\|fcgi:", text):
        return "socket", f"unix:{match[1]}"
    match = re.match(r"fcgi://([^/]+)", text)
    return ("socket", match[1]) if match else None


def _inside(
    host: Host, kind: str, modules: dict[str, str], programs: dict[str, str]
) -> tuple[Literal["module", "program"], str] | None:
    module = next((file for name, file in modules.items() if re.fullmatch(r"php\d?_module", name)), None)
    if module:
        return "module", windows_style(host, module)
    return ("program", programs[kind]) if kind in programs else None


def _of_host(mine: VirtualHost, main: VirtualHost) -> Iterator[Handoff]:
    """What serves a whole host, then the parts of it that are served by something else."""
    root = mine.root or main.root
    handlers = list(enumerate([*main.handlers, *(mine.handlers if mine is not main else [])]))
    whole = [one for one in handlers if _holds_all(one[1].place, root)]
    winner = max(whole, key=lambda one: (one[1].rank, one[0]), default=None)
    parts: dict[str, tuple[int, Handler]] = {}
    for at, one in handlers:
        outranks = winner is None or (one.rank, at) > (winner[1].rank, winner[0])
        if one.place and (at, one) not in whole and _is_part(one.place, root) and outranks:
            parts[one.place.words] = (at, one)
    names = tuple(dict.fromkeys(mine.names)) or ("default",)
    for part, (_, one) in [(None, winner)] if winner else []:
        yield Handoff(names, "apache2", one.origin, root, part, one.kind, one.target)
    for words, (_, one) in parts.items():
        yield Handoff(names, "apache2", one.origin, root, words, one.kind, one.target)


def _holds_all(place: Section | None, root: str | None) -> bool:
    if place is None or place.words in ("/", "~ /"):
        return True
    folder = place.words.rstrip("/")
    return place.kind == "directory" and root is not None and f"{root.rstrip('/')}/".startswith(f"{folder}/")


def _is_part(place: Section, root: str | None) -> bool:
    if place.kind.startswith("location"):
        return True
    return root is not None and place.words.startswith(root.rstrip("/") + "/")
