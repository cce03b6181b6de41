"""Services: *Redis 6 or later*, *a Memcached server*.  Not the extensions of the same name."""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.catalog.services import services
from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import Line
from fundamentum.prose.statement import ASKING, LATER, VERSION, Statement, level_of

_TAIL: Final = (
    rf"(?:\s+(?:server|service|version|cluster|v))*[\s:(]*(?:>=|≥|at least|version|v)?\s*(?:{VERSION})?({LATER})?"
)
_REST: Final = lazy_regex(r"[\"'`*]*\s*(?:\(?[^()]{0,80}\))?[\s.]*")
"""The rest of a point of a list that names nothing else."""


def read(line: Line) -> Iterator[Statement]:
    """The services of a line, joined by *or* as alternatives."""
    level = level_of(line)
    names = "|".join(name for name in services() if name != "smtp")
    named: list[str] = []
    for match in re.finditer(rf"(?<![\w-])({names})(?:-server)?(?![\w-]){_TAIL}", line.text, re.I):
        rest, before = line.text[match.end() :], line.text[: match.start()]
        server = re.search(r"server|service", match[0], re.I) or (match[2] and not _of_extension(line.text))
        if (
            _of_extension(line.text)
            or re.match(r"\s*(?:PHP )?(?:extension|module)", rest, re.I)
            or re.search(r"ext-$|php-$", before)
        ):
            continue
        point = line.listed and ASKING.search(line.heading) and _REST.fullmatch(rest) and not before.strip(" \"'`*")
        if server or point or re.search(r"cach(?:e|ing)|queue|search|install|server|running|session", line.text, re.I):
            name = match[1].lower()
            named.append(f"{name} >= {match[2]}" if match[2] else name)
    if named:
        yield Statement(("services", level), " | ".join(dict.fromkeys(named)), level=level)
    if re.search(r"\b(?:SMTP server|mail transport(?: agent)?|MTA)\b", line.text):
        yield Statement(("services", level), "smtp", level=level)


def _of_extension(text: str) -> bool:
    return re.search(r"\bextensions?\b|\bPHP modules?\b", text, re.I) is not None
