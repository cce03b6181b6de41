"""Which script Apache tells PHP to run where it passes requests on by their addresses.

Source: Apache's documentation of ``ProxyPass``, ``ProxyPassMatch`` and ``RewriteRule``; asked of real servers
(``tests/real/test_told_script.py``).
"""

import posixpath
import re
from collections.abc import Iterator
from contextlib import suppress
from typing import Final

from fundamentum.hosts.base import Host
from fundamentum.model.layers import Layer
from fundamentum.model.surrounding_facts import Barrier
from fundamentum.webservers.apache2.handlers import PASSED, Handler
from fundamentum.webservers.apache2.merging import is_below
from fundamentum.webservers.handoffs import is_file
from fundamentum.webservers.visit_questions import Unclear, matched

_SERVER: Final = re.compile(r"(?:unix:[^|]*\|)?fcgi://[^/]*")


def of_other_directory(host: Host, handler: Handler, root: str | None, script: str) -> Iterator[Barrier | Layer]:
    """What comes of it where another file is run than the one in the document root that the address names.

    ``script`` is the address of the script that answers for the site's first page, or may do so.
    """
    if handler.kind != "socket" or handler.way != PASSED or not root or not root.startswith("/"):
        return
    told = front = None
    with suppress(Unclear):
        told, front = _told(handler, script), _told(handler, "/")
    if front is not None and not is_file(host, front) and is_file(host, f"{root}{script}"):
        why = "a request for / is passed to PHP as that of a directory, and answered with an error"
        yield Barrier(why, "pass on what ends in .php alone", handler.line.origin)
    if told is None or posixpath.normpath(told) == posixpath.normpath(f"{root}{script}"):
        return
    if is_file(host, told):
        why = f"{told} is run for {script}, so files of other directories count"
        yield Layer("user-ini", (), handler.line.origin, why)
    elif is_file(host, f"{root}{script}"):
        meant = f"{root.rstrip('/')}/"
        why = f"PHP is told to run {told} for {script}, which is not there"
        yield Barrier(why, f"write {meant} as the directory behind fcgi://", handler.line.origin)


def _told(handler: Handler, uri: str) -> str | None:
    """The path of the script; None where it is not told by the line."""
    line = handler.line
    place = line.within("location", "locationmatch")
    words = line.words[1:] if len(line.words) > 1 and _SERVER.match(line.words[1]) else line.words
    server = _SERVER.match(words[0]) if words else None
    if place is None or server is None:
        return None
    path = words[0][server.end() :]
    if place.kind == "location" and not place.words.startswith("~ "):
        return path + uri[len(place.words) :] if is_below(uri, place.words) else None
    match = matched(place.words.removeprefix("~ "), uri)
    if not isinstance(match, re.Match):
        return None
    filled = re.sub(r"\$(\d)", lambda at: match[int(at[1])] or "" if int(at[1]) <= match.re.groups else "", path)
    return filled if filled != path or line.name == "rewriterule" else f"{path}{uri}"
