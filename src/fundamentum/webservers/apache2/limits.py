"""What Apache allows a request: for the scripts of a part of a host, the line that decides each limit.

Source: Apache's documentation of LimitRequestBody, Timeout, mod_proxy and mod_fcgid; the order in which sections are
merged decides (:mod:`fundamentum.webservers.apache2.merging`).
"""

import posixpath
from collections.abc import Iterator, Sequence
from typing import Final

import msgspec

from fundamentum.hosts.base import Host
from fundamentum.model.surrounding_facts import Limit
from fundamentum.webservers.apache2 import WEB_SERVER, inspection
from fundamentum.webservers.apache2.handlers import PLACES, depends
from fundamentum.webservers.apache2.lines import Line
from fundamentum.webservers.apache2.merging import never_counts, rank
from fundamentum.webservers.apache2.parts import Part
from fundamentum.webservers.apache2.workers import Worker, wait_for
from fundamentum.webservers.handoffs import spot
from fundamentum.webservers.visit_questions import Unclear

_FCGID: Final = {"FcgidMaxRequestLen": "131072", "FcgidIOTimeout": "40", "FcgidBusyTimeout": "300"}
"""mod_fcgid's own limits and their built-in values, from its documentation."""
BODY: Final = "LimitRequestBody"
ALLOWANCES: Final = {name.lower(): name for name in (BODY, "Timeout", "ProxyTimeout", *_FCGID, *inspection.NAMES)}


def limits_of(host: Host, part: Part, lines: Sequence[Line], workers: Sequence[Worker]) -> Iterator[Limit]:
    """What is allowed requests for a part.  ``lines`` are those of :data:`ALLOWANCES`, the main server's first;
    ``workers`` are what requests are passed to, the main server's first."""
    seen: set[tuple[str, str, object]] = set()
    for at, (uri, folder) in enumerate(part.scripts):
        for limit in (*_bodies(host, lines, uri, folder), *_inspected(host, lines, uri, folder)):
            if (limit.name, limit.value, limit.origin) not in seen:
                seen.add((limit.name, limit.value, limit.origin))
                yield Limit(limit.name, limit.value, limit.origin, limit.own, uri if at else None)
    uri, folder = part.scripts[0]
    handoff, handler = part.handoff, part.handler
    if handoff.kind in ("socket", "web"):
        timeout = _deciding(host, lines, "Timeout", uri, folder) or Limit("Timeout", "60")
        general = _deciding(host, lines, "ProxyTimeout", uri, folder) or Limit(
            "ProxyTimeout", timeout.value, timeout.origin
        )
        script = f"{folder}/{posixpath.basename(uri)}"
        yield wait_for(handler.line, script, workers) or general
    elif handoff.kind == "program" and handler.fcgid:
        for name, value in _FCGID.items():
            yield _deciding(host, lines, name, uri, folder) or Limit(name, value)


def _bodies(host: Host, lines: Sequence[Line], uri: str, folder: str) -> Iterator[Limit]:
    """The limit of a body for one script; and those of lines of which it is not known whether they count."""
    yield _deciding(host, lines, BODY, uri, folder) or Limit(BODY, "")
    for line in lines:
        if ALLOWANCES[line.name] == BODY and not never_counts(line) and _counts(line, uri, folder) is None:
            yield _limit(host, line)


def _inspected(host: Host, lines: Sequence[Line], uri: str, folder: str) -> Iterator[Limit]:
    """What the module that inspects requests takes."""
    of_it = [line for line in lines if ALLOWANCES[line.name] in inspection.NAMES and not never_counts(line)]
    if of_it:
        yield from inspection.sizes(
            of_it,
            lambda some, name: _deciding(host, some, name, uri, folder),
            lambda line: _counts(line, uri, folder) is None,
        )


def _deciding(host: Host, lines: Sequence[Line], name: str, uri: str, folder: str) -> Limit | None:
    counting = [line for line in lines if ALLOWANCES[line.name] == name and _counts(line, uri, folder)]
    ranked = [(rank(line, uri, folder), at, line) for at, line in enumerate(counting)]
    return (
        _limit(host, max(ranked, key=lambda ranked_limit: (ranked_limit[0] or (0, 0), ranked_limit[1]))[2])
        if ranked
        else None
    )


def _counts(line: Line, uri: str, folder: str) -> bool | None:
    """Whether a line counts for a script; None: that is not known."""
    try:
        fits = rank(line, uri, folder) is not None and not never_counts(line)
    except Unclear:
        return None
    return None if fits and depends(line) else fits


def _limit(host: Host, line: Line) -> Limit:
    """The line's limit, with the line itself where it stands in a section, so that it can be changed there alone."""
    own = spot(host, line.origin, WEB_SERVER.harmless) if line.within("virtualhost", *PLACES) else None
    outer = line.within("directory")
    if own and outer and outer.number < 0:  # a file of a document root, which its owner may put another in place of
        own = msgspec.structs.replace(own, text="")
    return Limit(ALLOWANCES[line.name], line.words[0], line.origin, own)
