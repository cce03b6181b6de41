"""Lines of Apache's that send every visitor of a host to a name which is another server's.

Source: Apache's documentation of mod_alias (``Redirect``) and of mod_rewrite (the flag ``R``).  Told only where it is
certain: of a name that this server answers for itself it is looked at what comes of a request there.
"""

import re
from collections.abc import Collection, Iterator, Sequence
from typing import Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.surrounding_facts import Barrier
from fundamentum.webservers.apache2.lines import Line
from fundamentum.webservers.apache2.merging import never_counts, place_of

_ADDRESS: Final = lazy_regex(r"https?://(?P<name>[\w.-]*\w)(?=[/:$%]|\Z)", re.I)
_STATUS: Final = lazy_regex(r"30[1278]|permanent|temp|seeother", re.I)
_ALL: Final = frozenset(
    ("^", ".", ".*", "^.*", "^.*$", "(.*)", "^(.*)", "^(.*)$", "^/", "^/(.*)", "^/(.*)$", "^/?(.*)$")
)
"""Patterns that every address fits."""
_EXCEPTED: Final = lazy_regex(r"\^/?\\?\.well-known\b")
"""What is left out so that a certificate can be fetched: no visitor asks for it."""


def sent_away(lines: Sequence[Line], names: Collection[str]) -> Iterator[Barrier]:
    """The first such line.  ``lines``: those of the host itself; ``names``: those that this server answers for."""
    on = any(line.name == "rewriteengine" and line.words[:1] and line.words[0].lower() == "on" for line in lines)
    plain = [line for line in lines if place_of(line) is None and not line.within("if", "elseif", "else")]
    by_rules = True
    for line in plain:
        if never_counts(line):
            continue
        if line.name in ("rewritecond", "rewriterule"):
            to = _of_rule(line) if by_rules and on and line.name == "rewriterule" else ""
            by_rules = by_rules and line.name == "rewriterule" and _EXCEPTED.match((*line.words, "")[0]) is not None
        else:
            to = _of_alias(line)
        match = _ADDRESS.match(to)
        if match is not None and match["name"].lower() not in names:
            written = f"{line.name.capitalize()} {' '.join(line.words)}"
            why = f"Apache sends visitors of all of it to {match['name']}: {written[:150]}"
            yield Barrier(why, "take that line out, if visitors are to come", line.origin)
            return


def _of_rule(line: Line) -> str:
    """Where a rule of mod_rewrite sends every visitor; empty: it sends none, or not all of them."""
    if len(line.words) < 3 or line.words[0] not in _ALL:
        return ""
    flags = re.sub(r"^\[|\]$", "", " ".join(line.words[2:])).upper().split(",")
    return line.words[1] if any(flag.strip().partition("=")[0] in ("R", "REDIRECT") for flag in flags) else ""


def _of_alias(line: Line) -> str:
    """The same of a line of mod_alias."""
    words = list(line.words)
    if line.name not in ("redirect", "redirectmatch", "redirectpermanent", "redirecttemp"):
        return ""
    if words and _STATUS.fullmatch(words[0]):
        words.pop(0)
    whole = words[:1] == ["/"] if not line.name.endswith("match") else words[:1] and words[0] in _ALL
    return words[1] if whole and len(words) == 2 else ""
