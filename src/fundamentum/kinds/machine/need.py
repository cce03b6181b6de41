"""One thing that an application needs of the machine, and how it is written."""

import re
from typing import Final, Literal

from fundamentum.kinds.table_reader import COMMAND, did_you_mean, size
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, NotUnderstood, Value

Fact = Literal["memory", "swap", "disk", "processors", "architecture", "time_zone", "https", "locales", "mail"]
FACTS: Final[tuple[Fact, ...]] = (
    "memory",
    "swap",
    "disk",
    "processors",
    "architecture",
    "time_zone",
    "https",
    "locales",
    "mail",
)
ARCHITECTURES: Final = {"x86_64": "amd64", "aarch64": "arm64", "i686": "i386", "i586": "i386", "armv7l": "armhf"}
"""Names that some package managers have for what others call otherwise."""
_NUMBERS: Final = {"memory": "2G", "swap": "1G", "disk": "50G", "processors": "2"}
"""What is a number, with an example."""
_SWITCHES: Final = {"time_zone": ("set",), "https": ("on", "set"), "mail": ("set",)}
_LOCALE: Final = lazy_regex(r"(?:[a-z]{2,3}(?:_[A-Z]{2})?|C)(?:\.[A-Za-z0-9-]{1,20})?(?:@[a-z]{1,20})?")


class HostNeed(Value, frozen=True):
    """One thing about the machine."""

    fact: Fact
    level: Level
    text: str
    amount: int = 0
    """The least number: bytes, or processors."""
    names: tuple[str, ...] = ()
    """The architectures of which any one will do, or the locales that all have to be there."""

    @property
    def key(self) -> NeedId:
        return NeedId(f"host:{self.fact}")


def host(name: str, text: str, level: Level) -> HostNeed:
    """One entry of a table about the machine."""
    body = text.strip()
    if name in _NUMBERS:
        match = re.fullmatch(r"(?:>=\s*)?([0-9].*)", body)
        if not match or (name == "processors" and not match[1].isdigit()):
            raise NotUnderstood(f"'{body}' is not understood; write for example \">= {_NUMBERS[name]}\"")
        return HostNeed(name, level, f">= {match[1]}", size(match[1]))  # type: ignore[arg-type]
    if name == "architecture":
        names = tuple(ARCHITECTURES.get(part.strip(), part.strip()) for part in body.split("|"))
        if not all(COMMAND.fullmatch(name) for name in names):
            raise NotUnderstood(f"'{body}' is no architecture; write for example \"amd64 | arm64\"")
        return HostNeed("architecture", level, " | ".join(names), names=names)
    if name == "locales":
        names = tuple(part for part in re.split(r"[\s,]+", body) if part)
        wrong = next((part for part in names if not _LOCALE.fullmatch(part)), None)
        if not names or wrong:
            raise NotUnderstood(f"'{wrong or body}' is no locale; write for example \"de_DE.UTF-8\"")
        return HostNeed("locales", level, ", ".join(names), names=names)
    if name in _SWITCHES:
        if body not in _SWITCHES[name]:
            raise NotUnderstood(f"'{body}' is not understood; write \"{_SWITCHES[name][0]}\"")
        return HostNeed(name, level, body)  # type: ignore[arg-type]
    hint = did_you_mean(name, FACTS) or f"; known: {', '.join(FACTS)}"
    raise NotUnderstood(f"nothing is known of '{name}'{hint}")
