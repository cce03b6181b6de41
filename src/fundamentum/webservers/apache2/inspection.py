"""What mod_security lets through: it holds a request against the size it takes before it looks into it.

It does so twice: as soon as it has the headers, with what is said for the server and the host alone, and once more
with all sections.  Whatever it is told to do with what is too large, a form with a file fails: it is refused (413), or
taken apart before its end (500).  No limit is meant where it does not run, or does not look at what is sent in.

Source: asked of real servers with mod_security 2.9 (``tests/real/test_inspected_bodies.py``); the names and what
they are without a line from its reference manual.
"""

import re
from collections.abc import Callable, Iterator, Sequence
from typing import Final

from fundamentum.model.surrounding_facts import Limit
from fundamentum.webservers.apache2.lines import Line

SIZE: Final = "SecRequestBodyLimit"
_ENGINE, _BODIES, _RULE, _ACTION = "SecRuleEngine", "SecRequestBodyAccess", "SecRule", "SecAction"
NAMES: Final = (SIZE, _ENGINE, _BODIES, _RULE, _ACTION)
_RULES: Final = frozenset({_RULE.lower(), _ACTION.lower()})
SOMETIMES: Final = "not the same for all requests"
_BUILT_IN: Final = "134217728"
_BY_RULE: Final = re.compile(
    r"\bctl:\s*(?:requestBodyLimit|(?:requestBodyAccess|ruleEngine)=(?:On|DetectionOnly))", re.I
)
"""A rule that changes it for some requests."""
_SECTIONS: Final = (
    "directory", "directorymatch", "location", "locationmatch", "files", "filesmatch", "if", "elseif", "else",
)  # fmt: skip
Deciding = Callable[[Sequence[Line], str], Limit | None]
"""What the line says of some that decides for a script, by the name of its directive."""


def matters(line: Line) -> bool:
    """Whether a line with one of its names may change how large a request may be."""
    return line.name not in _RULES or any(map(_BY_RULE.search, line.words))


def sizes(lines: Sequence[Line], deciding: Deciding, unsure: Callable[[Line], bool]) -> Iterator[Limit]:
    """The limits that hold for a script.  ``lines`` are those of :data:`NAMES`, the main server's first.

    ``unsure``: whether it is not known if a line counts.
    """
    everywhere = [line for line in lines if line.within(*_SECTIONS) is None]
    looks = (everywhere, lines)
    yield from dict.fromkeys(filter(None, (_limit(look, deciding) for look in looks)))
    runs = any(_says(look, _ENGINE, deciding) != "off" for look in looks)
    for line in lines:
        if (runs and line.name in _RULES) or (unsure(line) and line.words[0].lower() != "off"):
            yield Limit(SIZE, SOMETIMES, line.origin)
            return


def _limit(lines: Sequence[Line], deciding: Deciding) -> Limit | None:
    if "off" in (_says(lines, _ENGINE, deciding), _says(lines, _BODIES, deciding)):
        return None
    return deciding(lines, SIZE) or Limit(SIZE, _BUILT_IN)


def _says(lines: Sequence[Line], name: str, deciding: Deciding) -> str:
    told = deciding(lines, name)
    return told.value.lower() if told is not None else "off"
