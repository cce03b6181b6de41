"""What Apache's configuration, and the ``.htaccess`` files it reads, change of PHP's for one site.

Source: Apache's documentation, "How the sections are merged" and "AllowOverride"; php.net, "How to change configuration
settings"; asked of real servers (``tests/real/test_laboratory.py``).
"""

from collections.abc import Iterable, Iterator, Sequence
from typing import Final

import msgspec

from fundamentum.hosts.base import Host
from fundamentum.model.layers import Assignment, Layer, LayerKind
from fundamentum.model.safe_text import is_directive
from fundamentum.untrusted.secrets import without_secrets
from fundamentum.webservers.apache2.access_files import PHP, SENDING, AccessFileLines, AccessFiles
from fundamentum.webservers.apache2.lines import Line, Reader
from fundamentum.webservers.apache2.merging import (
    is_pattern,
    is_unclear,
    never_counts,
    order_of,
    place_in_site,
    place_of,
)
from fundamentum.webservers.handoffs import sent_along

_OVERRIDING: Final = frozenset({"allowoverride", "allowoverridelist", "accessfilename"})
_STARTING: Final = frozenset({"PHPRC", "PHP_INI_SCAN_DIR"})
_PATHS: Final = frozenset({"SCRIPT_FILENAME", "DOCUMENT_ROOT"})
_SENT: Final = frozenset({"PHP_VALUE", "PHP_ADMIN_VALUE"})
_CONDITIONAL: Final = frozenset(
    {"if", "elseif", "else", "limit", "limitexcept", "ifversion", "ifdirective", "ifsection"}
)
"""Sections of which a request decides whether they count, or something else that is not known here."""


class SiteLayers(AccessFileLines):
    """The layers of one site, and what the files of its directories say beside that."""

    layers: list[Layer] = msgspec.field(default_factory=list)
    """In the order in which Apache applies them."""


def matters(line: Line) -> bool:
    """Whether a line says something about PHP's configuration, or about which files may."""
    if line.name == "use":
        return True
    if line.name in ("setenv", "fcgidinitialenv", "defaultinitenv") and line.words and line.words[0] in _STARTING:
        return True
    if line.name == "proxyfcgisetenvif" and _PATHS.intersection(line.words):
        return True
    return line.name in PHP | _OVERRIDING or (line.name in SENDING and bool(_SENT.intersection(_sent_names(line))))


def _sent_names(line: Line) -> list[str]:
    return [word.partition("=")[0].lstrip("!") for word in line.words]


def layers_of(
    host: Host, main: Sequence[Line], mine: Sequence[Line], root: str | None, kind: str, reader: Reader
) -> SiteLayers:
    """The layers of a host whose document root this is, and whose requests are handed to a ``kind`` of PHP.

    ``main`` are the lines of the main server, ``mine`` those of the virtual host, both as :func:`matters` picks them.
    """
    site_layers = SiteLayers()
    module = kind == "module"
    site_layers.layers += _elsewhere((*main, *mine), kind)
    lines = [line for line in (*main, *mine) if line.name in PHP or line.name in SENDING]
    access = AccessFiles(host, [line for line in (*main, *mine) if line.name in _OVERRIDING], root, reader)
    ranked = access.read(site_layers)
    for line in (*lines, *access.kept):
        below = place_in_site(line, root)
        if below is not None and not never_counts(line):
            ranked += ((order_of(line), layer) for layer in _layers(_kind_of(line), [line], below, module, root or ""))
    site_layers.layers += (layer for _, layer in sorted(ranked, key=lambda pair: pair[0]))
    return site_layers


def _kind_of(line: Line) -> LayerKind:
    """Which kind of place a line stands in."""
    outer, place = line.within("directory", "directorymatch"), place_of(line)
    if outer and outer.number < 0:
        return "htaccess"
    if place is None:
        return "server"
    if place.kind.startswith("location"):
        return "location"
    return "directory" if outer is place and not is_pattern(place) else "files"


def _elsewhere(lines: Iterable[Line], kind: str) -> Iterator[Layer]:
    """What makes PHP read other files than usual for a host, or cannot be followed: anything may be set there."""
    for line in lines:
        if line.name == "use":
            why = "a macro is used that says something about PHP's configuration, which is not followed"
            yield Layer("server" if kind == "module" else "request", (), line.origin, why)
        elif kind == "socket" and line.name == "proxyfcgisetenvif" and (named := _PATHS.intersection(line.words)):
            why = f"{min(named)} is sent otherwise, so files of other directories count"
            yield Layer("user-ini", (), line.origin, why)
        elif kind == "program" and line.words and line.words[0] in _STARTING:
            yield Layer("start", (), line.origin, f"{line.words[0]} makes PHP read other files")


def _layers(kind: LayerKind, lines: Iterable[Line], below: str, module: bool, root: str = "") -> Iterator[Layer]:
    """One layer for each line: later ones come later."""
    for line in lines:
        place = place_of(line)
        unclear = line.within(*_CONDITIONAL) or (place and is_unclear(place, root))
        unsure = "whether it counts is not known" if unclear else ""
        if line.name in PHP and module and len(line.words) > 1 and is_directive(line.words[0]):
            assignment = _assignment(line)
            values = (msgspec.structs.replace(assignment, value=None),) if unsure else (assignment,)
            yield Layer(kind, values, line.origin, below=below)
        elif line.name in SENDING:
            sent = _sent(line, unsure)
            if sent and not module:
                yield msgspec.structs.replace(sent, below=below)


def _assignment(line: Line) -> Assignment:
    name, value = line.words[0], line.words[1]
    admin = line.name.startswith("php_admin")
    if line.name.endswith("flag"):
        value = "1" if value.lower() in ("on", "1") else "0"
    elif value.lower() == "none":
        value = ""
    return Assignment(name, without_secrets(name, value), line.origin, admin)


def _sent(line: Line, unsure: str) -> Layer | None:
    """What a line sends along with requests that are handed to PHP over FastCGI."""
    if line.name == "setenv" and not unsure:
        name, text = line.words[0], line.words[1] if len(line.words) > 1 else ""
        return sent_along(name, text.replace("\\n", "\n"), line.origin)
    name = next((name for name in _sent_names(line) if name in _SENT), "")
    return sent_along(name, None, line.origin)
