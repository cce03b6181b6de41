"""What source says of the machine: locales without which it goes no further, and mail that it hands to PHP.

``if (!setlocale(LC_ALL, 'de_DE.UTF-8')) { exit('The locale de_DE.UTF-8 is missing'); }``
"""

import itertools
import re
from collections.abc import Iterator
from typing import Final

from fundamentum.derive.php_source.nodes import Patience, arguments, around, called, line, string, walked
from fundamentum.derive.php_source.source import Source
from fundamentum.derive.statements.outcomes import refuses
from fundamentum.derive.statements.where_missing import turned, where_missing

_CALLS: Final = re.compile(rb"\b(?:setlocale|mail)\s{0,9}\(", re.I)
_LOCALE: Final = re.compile(r"[a-z]{2,3}_[A-Z]{2}\.[A-Za-z0-9-]{3,12}")
"""With its character set: names without one mean something else on each system."""
MAX_CALLS: Final = 200
Wished = tuple[str, str, int, bool]
"""Fact, as a needs file has it; what it is to be; line; whether the program goes no further otherwise."""


def host_wishes(data: bytes, _: object = None) -> list[Wished]:
    """What one file says."""
    if _CALLS.search(data) is None:
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
            yield "mail", "set", line(call), False
        elif name == "setlocale":
            branch = where_missing(call, turned(call))
            if branch is None or not refuses(branch):
                continue
            # Of several names the first that is there is taken, and they are names of the same one.
            names = (string(part) for given in arguments(call)[1:] for part in walked(given))
            if locale := next((name for name in names if name and _LOCALE.fullmatch(name)), None):
                yield "locales", locale, line(call), True
