"""Which handler takes the PHP files of an address, and what became of one that would.

Source: Microsoft's reference of IIS configuration (``handlers``): the first that fits path, verb and preconditions.
"""

from collections.abc import Sequence

from fundamentum.model.origin import Origin
from fundamentum.untrusted import name_patterns
from fundamentum.webservers.iis.commands import MODULE
from fundamentum.webservers.iis.levels import Element, Level, listed


def of_php(levels: Sequence[Level], small: bool | None) -> Element | None:
    """The handler that PHP files are given to; None where that runs no program of PHP.

    ``small``: whether the pool has 32 bits, which some handlers are for or not for; None leaves that aside.
    """
    for handler in listed(levels, "handlers", "name", prepend=True):
        if _takes(handler) and (small is None or _counts(handler, small)):
            runs = MODULE.lower() in handler.get("modules").lower() and "php" in handler.get("scriptProcessor").lower()
            return handler if runs else None
    return None


def _takes(handler: Element) -> bool:
    verbs = handler.get("verb", "*").upper().replace(" ", "").split(",")
    patterns = handler.get("path").lower().split(",")
    return bool({"*", "GET"}.intersection(verbs)) and any(
        name_patterns.fits("index.php", pattern.strip()) for pattern in patterns
    )


def _counts(handler: Element, small: bool) -> bool:
    """Whether a handler counts in a pool of that size."""
    wanted = handler.get("preCondition").lower()
    return "bitness" not in wanted or ("bitness32" in wanted) is small


def taken_off(levels: Sequence[Level], name: str) -> Origin | None:
    """Where a handler is taken off that is inherited."""
    for level in levels:
        for handlers in level.element.iterfind("handlers"):
            for handler in handlers:
                if handler.tag == "clear" or (
                    handler.tag == "remove" and (handler.get("name") or "").lower() == name.lower()
                ):
                    return Origin(level.file, handler.sourceline)
    return None


def sets_any(level: Level) -> bool:
    """Whether a file has handlers of its own."""
    return level.element.find("handlers") is not None
