"""The parts of a host that are handed to PHP in different ways, and which of them a visitor's first request meets."""

import posixpath
from collections.abc import Iterator, Sequence
from typing import Any, Final

import msgspec

from fundamentum.hosts.base import Host
from fundamentum.model.layers import Layer
from fundamentum.model.surrounding_facts import FirstPage
from fundamentum.untrusted.patterns import search
from fundamentum.webservers.apache2.handlers import Handler, winner
from fundamentum.webservers.apache2.lines import Line, Section, windows_style
from fundamentum.webservers.apache2.merging import ANOTHER, SCRIPT, is_below
from fundamentum.webservers.handoffs import Handoff

ALIASES: Final = frozenset({"alias", "aliasmatch", "scriptalias", "scriptaliasmatch"})


class Part(msgspec.Struct, frozen=True):
    """A host, or a part of one, that is handed on."""

    handoff: Handoff
    handler: Handler
    scripts: tuple[tuple[str, str], ...]
    """Scripts of it, the usual one first: the address of each, and the directory in which its file lies."""


def parts_of(own: Handoff, handlers: Sequence[Handler], first: str | None) -> Iterator[Part]:
    """What serves a whole host, then the parts of it that are served by something else.

    ``own`` is the host itself, ``first`` the address of the script that answers for its first page; None: not known.
    """
    root = (own.root or "").rstrip("/")
    general = winner(handlers, f"/{ANOTHER}", root)
    named: dict[str | None, Handler] = {None: general} if general else {}
    for handler in handlers:
        if handler.place and _is_part(handler.place, root):
            uri = _sample(handler.place, root)
            there = winner(handlers, uri, root + posixpath.dirname(uri)) if uri else handler
            if there is handler and there is not general and (uri or _outdoes(handler, general)):
                named[handler.place.words] = handler
    page = winner(handlers, first, root + posixpath.dirname(first)) if first else None
    if page and not any(handler is page for handler in named.values()):
        named[SCRIPT if first == f"/{SCRIPT}" else str(first)] = page
    for part, handler in named.items():
        meets: FirstPage = "unclear" if page is None else "here" if handler is page else "elsewhere"
        uris = [f"/{ANOTHER}"] if part is None else [_sample(handler.place, root)] if handler.place else []
        uris += [first] if first and handler is page else [f"/{SCRIPT}"] if page is None else []
        scripts = tuple((uri, root + posixpath.dirname(uri)) for uri in uris if uri) or ((f"/{SCRIPT}", root),)
        yield Part(handed_to(handler, own, part=part, first_page=meets), handler, scripts)


def handed_to(handler: Handler, own: Handoff, **options: Any) -> Handoff:
    """A host's handoff, as a handler makes it."""
    return msgspec.structs.replace(own, kind=handler.kind, target=handler.target, origin=handler.line.origin, **options)


def document_root(root: str | None, guards: Sequence[Line], host: Host) -> tuple[str | None, Line | None]:
    """Where the files of a host's first page lie, and a line that leads them elsewhere, if that is not followed.

    Source: Apache's documentation of mod_alias: the first one that fits counts, the host's own before the server's.
    """
    leading = [line for line in guards if line.name in ALIASES]
    for line in sorted(leading, key=lambda line: not line.within("virtualhost")):
        place = line.within("location", "locationmatch")
        first, *to = (place.words, *line.words) if place else line.words or ("",)
        pattern = line.name.endswith("match") or (place is not None and place.kind.endswith("match"))
        if not pattern and first.rstrip("/") == "" and to and "$" not in to[0] and "%" not in to[0]:
            return windows_style(host, to[0]).rstrip("/") or "/", None
        if any(search(first, uri) is not False if pattern else is_below(uri, first) for uri in ("/", f"/{SCRIPT}")):
            return root, line
    return root, None


def led_elsewhere(line: Line, kind: str) -> Layer:
    """What such a line makes of what files of directories set: anything may be set there."""
    why = f"{line.name} leads the first page to another directory"
    return Layer("directory" if kind == "module" else "user-ini", (), line.origin, why)


def _is_part(place: Section, root: str) -> bool:
    return place.kind.startswith("location") or bool(root and place.words.startswith(f"{root}/"))


def _sample(place: Section, root: str) -> str:
    """The address of a script in a part; empty where a pattern says which that is."""
    if place.kind.endswith("match") or place.words.startswith("~ ") or any(sign in place.words for sign in "*?["):
        return ""
    address = place.words if place.kind == "location" else place.words.removeprefix(root)
    return address if address.endswith(".php") else f"{address.rstrip('/')}/{ANOTHER}"


def _outdoes(handler: Handler, general: Handler | None) -> bool:
    """Whether a handler for some addresses comes before the one for all of them."""
    if general is None or handler.way != general.way:
        return general is None or handler.way > general.way
    return general.place is None or not general.place.kind.startswith("location")
