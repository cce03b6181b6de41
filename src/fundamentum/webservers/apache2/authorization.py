"""Whether Apache's rules of who may ask let a visitor in of whom nothing is known but that he asks for a page.

Source: Apache's documentation of mod_authz_core (``Require``, ``RequireAll``, ``RequireAny``, ``RequireNone``,
``Require method``), and of ``Limit`` and ``LimitExcept``.
"""

from collections.abc import Iterable, Sequence
from typing import Final

from fundamentum.webservers.apache2.lines import Line, Section

CONTAINERS: Final = ("requireall", "requireany", "requirenone")
_METHOD: Final = "get"
SOMEWHERE: Final = frozenset({"local", "ip", "host", "forward-dns"})
"""Rules for visitors from certain places, which one from anywhere does not come from."""


def for_pages(lines: Iterable[Line]) -> list[Line]:
    """The lines that count for a request for a page: those for other methods are left out."""
    return [line for line in lines if all(_holds(section) for section in line.inside)]


def _holds(section: Section) -> bool:
    methods = section.words.lower().split()
    if section.kind == "limit":
        return _METHOD in methods
    return section.kind != "limitexcept" or _METHOD not in methods


def lets_in(lines: Sequence[Line]) -> bool | None:
    """Whether the ``Require`` lines of one section let the visitor in; None: that depends on him."""
    return _any([_of(part) for part in _parts(lines, 0)])


def _parts(lines: Sequence[Line], depth: int) -> list[tuple[Section | None, list[Line], int]]:
    """What stands side by side: single lines, and sections with what is in them."""
    containers: dict[object, tuple[Section | None, list[Line], int]] = {}
    for at, line in enumerate(lines):
        around = [section for section in line.inside if section.kind in CONTAINERS]
        section = around[depth] if depth < len(around) else None
        key: object = (section.kind, section.number) if section else at
        containers.setdefault(key, (section, [], depth + 1))[1].append(line)
    return list(containers.values())


def _of(part: tuple[Section | None, list[Line], int]) -> bool | None:
    section, lines, depth = part
    if section is None:
        return _line(lines[0])
    inner = [_of(line_part) for line_part in _parts(lines, depth)]
    if section.kind == "requireany":
        return _any(inner)
    if section.kind == "requirenone":
        return False if True in inner else None
    # What says nothing by itself, as a rule for others does, takes nothing away either.
    return False if False in inner else True if all(inner) else None


def _any(inner: Sequence[bool | None]) -> bool | None:
    return True if True in inner else None if None in inner else False


def _line(line: Line) -> bool | None:
    words = [word.lower() for word in line.words]
    negated = words[:1] == ["not"]
    kind, *rest = (words[1:] if negated else words) or [""]
    allowed: bool | None = None
    if kind == "all" and rest[:1] in (["granted"], ["denied"]):
        allowed = rest[0] == "granted"
    elif kind == "method":
        allowed = _METHOD in rest
    elif kind in SOMEWHERE:
        allowed = False
    return allowed if not negated or allowed is None else not allowed
