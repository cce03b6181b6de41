"""Lines with which nginx does not start, and takes no other files either: out of place, without an end, or twice.

Only what has been the same in every nginx for years is judged: of names that are not in the table nothing is said, for
a module may bring them.  Source: nginx's documentation, "Alphabetical index of directives".
"""

from collections.abc import Iterator, Sequence
from typing import Any, Final, NamedTuple

from fundamentum.model.surrounding_facts import UnknownLine


class _Rule(NamedTuple):
    places: frozenset[str]
    least: int
    most: int
    block: bool = False
    once: bool = False
    """Whether a second one at the same place is refused."""


_MANY: Final = 1000
_HSL: Final = frozenset({"http", "server", "location"})
_SL: Final = frozenset({"server", "location"})
_IN_LOCATION: Final = frozenset({"location", "if in location"})
_ANY_IF: Final = _SL | {"if in server", "if in location"}
_RULES: Final[dict[str, _Rule]] = {
    "http": _Rule(frozenset({"main"}), 0, 0, block=True, once=True),
    "events": _Rule(frozenset({"main"}), 0, 0, block=True, once=True),
    "server": _Rule(frozenset({"http", "main"}), 0, 0, block=True),  # main: where only a part of it is shown
    "location": _Rule(_SL, 1, 2, block=True),
    "user": _Rule(frozenset({"main"}), 1, 2, once=True),
    "worker_processes": _Rule(frozenset({"main"}), 1, 1, once=True),
    "listen": _Rule(frozenset({"server"}), 1, _MANY),
    "server_name": _Rule(frozenset({"server"}), 1, _MANY),
    "root": _Rule(_HSL | {"if in location"}, 1, 1, once=True),
    "alias": _Rule(frozenset({"location"}), 1, 1, once=True),
    "index": _Rule(_HSL, 1, _MANY),
    "try_files": _Rule(_SL, 2, _MANY, once=True),
    "error_page": _Rule(_HSL | {"if in location"}, 2, _MANY),
    "return": _Rule(_ANY_IF, 1, 2),
    "rewrite": _Rule(_ANY_IF, 2, 3),
    "client_max_body_size": _Rule(_HSL, 1, 1, once=True),
    "client_body_timeout": _Rule(_HSL, 1, 1, once=True),
    "fastcgi_pass": _Rule(_IN_LOCATION, 1, 1, once=True),
    "fastcgi_index": _Rule(_HSL, 1, 1, once=True),
    "fastcgi_param": _Rule(_HSL, 2, 3),
    "fastcgi_read_timeout": _Rule(_HSL, 1, 1, once=True),
    "fastcgi_split_path_info": _Rule(_HSL, 1, 1),
    "proxy_pass": _Rule(_IN_LOCATION | {"limit_except"}, 1, 1, once=True),
    "proxy_read_timeout": _Rule(_HSL, 1, 1, once=True),
    "proxy_set_header": _Rule(_HSL, 2, 2),
    "auth_basic": _Rule(_HSL | {"limit_except"}, 1, 1, once=True),
    "auth_basic_user_file": _Rule(_HSL | {"limit_except"}, 1, 1, once=True),
    "allow": _Rule(_HSL | {"limit_except"}, 1, 1),
    "deny": _Rule(_HSL | {"limit_except"}, 1, 1),
    "autoindex": _Rule(_HSL, 1, 1, once=True),
    "sendfile": _Rule(_HSL | {"if in location"}, 1, 1, once=True),
    "add_header": _Rule(_HSL | {"if in location"}, 2, 3),
    "ssl_certificate": _Rule(frozenset({"http", "server"}), 1, 1),
    "ssl_certificate_key": _Rule(frozenset({"http", "server"}), 1, 1),
}
_INTO: Final = frozenset({"http", "server", "location", "if", "limit_except"})
"""Blocks that are gone into: in others the same names may mean something else."""
MAX_REFUSED: Final = 5


def refused(tree: Sequence[dict[str, Any]], place: str = "main") -> tuple[UnknownLine, ...]:
    """The first of the lines with which nginx does not start.  ``place``: in which block the tree stands.

    Of a configuration that is not a whole one, as nginx has none without ``events``, nothing is said.
    """
    if place == "main" and all(statement["directive"] != "events" for statement in tree):
        return ()
    found = (UnknownLine(why, statement["origin"]) for statement, why in _within(tree, place))
    return tuple(line for line, _ in zip(found, range(MAX_REFUSED), strict=False))


def _within(tree: Sequence[dict[str, Any]], place: str) -> Iterator[tuple[dict[str, Any], str]]:
    seen: set[tuple[str, ...]] = set()
    for statement in tree:
        name, words = statement["directive"], tuple(statement["args"])
        if why := _why_not(statement, place):
            yield statement, why
            continue
        key = _once(name, words)
        if key in seen:
            yield statement, f"{' '.join((name, *words)) if name == 'location' else name} stands there twice"
        seen |= {key} if key else set()
        if "block" in statement and name in _INTO:
            yield from _within(statement["block"], _place_in(name, place))


def _once(name: str, words: tuple[str, ...]) -> tuple[str, ...]:
    """What may stand at one place only once; empty: as often as one likes, as places by a pattern may."""
    if name == "location" and words:
        sign, path = words if len(words) == 2 else ("", words[0])
        plain = sign in ("", "=", "^~") and (path.startswith("/") or (path.startswith("@") and not sign))
        return (name, sign.strip("^~"), path) if plain else ()
    return (name,) if name in _RULES and _RULES[name].once else ()


def _place_in(block: str, place: str) -> str:
    if block != "if":
        return block
    return "if in location" if place in ("location", "if in location") else "if in server"


def _why_not(statement: dict[str, Any], place: str) -> str:
    """Why a line is refused where it stands; empty: it is not, or nothing is known of it."""
    name, number = statement["directive"], len(statement["args"])
    rule = _RULES.get(name)
    if rule is None:
        return ""
    if place not in rule.places:
        places = sorted(rule.places - {"main"}) or ["main"]
        return f"{name} is not allowed there ({place}), but in {', '.join(places)}"
    if rule.block and "block" not in statement:
        return f'{name} has no opening "{{"'
    if "block" in statement and not rule.block:
        return f'{name} is not ended by ";"'
    # A recording holds the names of lines that say nothing of sites, and not what stands behind these.
    if number and not rule.least <= number <= rule.most:
        return f'{name} has {number} parts behind it: is a ";" missing, or too many?'
    return ""
