"""What source says of the machine: what it goes no further without, and mail that it hands to PHP.

``if (!setlocale(LC_ALL, 'de_DE.UTF-8')) { exit('The locale de_DE.UTF-8 is missing'); }``,
``if (disk_free_space(__DIR__) < 2 * 1024 ** 3) { die('too little room'); }``,
``if (empty($_SERVER['HTTPS'])) { die('HTTPS is required'); }``
"""

import itertools
import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import Patience, arguments, around, called, field, line, string, text, walked
from fundamentum.derive.php_source.source import Source
from fundamentum.derive.statements.outcomes import refuses
from fundamentum.derive.statements.uploaded_sizes import number_of
from fundamentum.derive.statements.where_missing import turned, where_missing

_CALLS: Final = re.compile(rb"\b(?:setlocale|mail|disk_?free_?space)\s{0,9}\(", re.I)
_HTTPS: Final = re.compile(rb"\$_SERVER\s?\[\s?['\"]HTTPS['\"]")
_OF_HTTPS: Final = r"\$_server\[['\"]https['\"]\]"
_ASKED: Final = rf"(?:strtolower\()?{_OF_HTTPS}\)?"
_WITHOUT_HTTPS: Final = (
    rf"(?:empty\({_OF_HTTPS}\)|!isset\({_OF_HTTPS}\)|"
    rf"{_ASKED}(?:(?:!==?|<>)['\"](?:on|1)['\"]|===?['\"](?:off|)['\"])|"
    rf"(?:['\"](?:on|1)['\"](?:!==?|<>)|['\"](?:off|)['\"]===?){_ASKED})"
)
_NO_HTTPS: Final = re.compile(rf"\(?{_WITHOUT_HTTPS}(?:\|\|{_WITHOUT_HTTPS})*\)?")
"""A condition that asks for nothing else, without its blanks and in small letters."""
_POWER: Final = re.compile(r"(\d{1,5})\s?\*\*\s?(\d)\b")
_LOCALE: Final = re.compile(r"[a-z]{2,3}_[A-Z]{2}\.[A-Za-z0-9-]{3,12}")
"""With its character set: names without one mean something else on each system."""
MAX_CALLS: Final = 200
MAX_CONDITION: Final = 300
"""Characters of a condition about one fact."""
Wished = tuple[str, str, int, bool, str]
"""Fact, as a needs file has it; what it is to be; line; whether the program ends otherwise; what is written."""


def host_wishes(data: bytes, _: object = None) -> list[Wished]:
    """What one file says."""
    if _CALLS.search(data) is None and _HTTPS.search(data) is None:
        return []
    Patience.begin()
    try:
        return list(_wishes(Source(data), data))
    except RecursionError:
        return []


def _wishes(source: Source, data: bytes) -> Iterator[Wished]:
    for call in itertools.islice(around(source.root, data, _CALLS, ("function_call_expression",)), MAX_CALLS):
        name = called(call)
        if name == "mail" and len(arguments(call)) >= 3:
            yield "mail", "set", line(call), False, "mail()"
        elif name == "setlocale":
            yield from _locale(call)
        elif name.startswith("disk"):
            yield from _room(call)
    for statement in itertools.islice(around(source.root, data, _HTTPS, ("if_statement",)), MAX_CALLS):
        condition, body = field(statement, "condition"), field(statement, "body")
        asked = re.sub(r"\s", "", text(condition)[:MAX_CONDITION]).lower()
        if body is not None and _NO_HTTPS.fullmatch(asked) and refuses(body):
            yield "https", "on", line(statement), True, "$_SERVER['HTTPS'] is asked"


def _locale(call: Node) -> Iterator[Wished]:
    """The locale that is set, where the program goes no further without it."""
    branch = where_missing(call, turned(call))
    if branch is None or not refuses(branch):
        return
    # Of several names the first that is there is taken, and they are names of the same one.
    names = (string(part) for given in arguments(call)[1:] for part in walked(given))
    if locale := next((name for name in names if name and _LOCALE.fullmatch(name)), None):
        yield "locales", locale, line(call), True, f"setlocale() to {locale}"


def _room(call: Node) -> Iterator[Wished]:
    """The free space with less of which the program goes no further."""
    compared = call.parent
    if compared is None or compared.type != "binary_expression":
        return
    left, right = field(compared, "left"), field(compared, "right")
    first = left == call
    less = text(field(compared, "operator")) in (("<", "<=") if first else (">", ">="))
    written = _POWER.sub(lambda power: str(int(power[1]) ** int(power[2])), text(right if first else left))
    least, branch = number_of(written, "disk"), where_missing(compared, True)
    if less and least and branch is not None and refuses(branch):
        yield "disk", f">= {least}", line(call), True, "disk_free_space() is compared"
