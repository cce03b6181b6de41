"""What an application's own files need of the machine that it runs on, and of how PHP reads them."""

from collections.abc import Iterator, Sequence
from typing import Final

from fundamentum.catalog.quantity import quantity
from fundamentum.derive.application.tree import Each, SourceFile
from fundamentum.derive.result import Entry, Place
from fundamentum.derive.statements.host_wishes import host_wishes
from fundamentum.derive.statements.short_tags import short_tag
from fundamentum.model.needs_value import Level

MAX_PLACES: Final = 5
MANY: Final = 10
"""Files with short tags from which on they are no oversight, however many others there are."""
_STOPS: Final = "the program goes no further without it"


def machine_needs(each: Each, files: Sequence[SourceFile]) -> Iterator[Entry]:
    """One entry for each fact; of locales, all have to be there."""
    values: dict[str, dict[str, None]] = {}
    places: dict[str, list[Place]] = {}
    stopping: set[str] = set()
    for file, wished in each(host_wishes, [file for file in files if file.part == "own"], None):
        for fact, value, line, stops, what in wished:
            values.setdefault(fact, {})[value] = None
            places.setdefault(fact, []).append(Place(file.path, line, what))
            stopping |= {fact} if stops else set()
    for fact, named in values.items():
        level: Level = "required" if fact in stopping else "recommended"
        rule = _STOPS if fact in stopping else "the program hands mail to PHP"
        value = max(named, key=_size) if fact == "disk" else ", ".join(named)
        yield Entry("host", (fact,), level, value, rule, tuple(places[fact][:MAX_PLACES]))


def _size(value: str) -> int:
    return quantity(value.removeprefix(">= ")).number


def short_tags(each: Each, files: Sequence[SourceFile]) -> Iterator[Entry]:
    """That PHP takes ``<?`` for the beginning of code, where more than a few files rest on that."""
    own = [file for file in files if file.part == "own"]
    places = [Place(file.path, line, "<?") for file, line in each(short_tag, own, None) if line]
    if places:
        level: Level = "required" if len(places) >= min(MANY, len(own) / 4) else "recommended"
        rule = "code stands between short tags, and is given out as text otherwise"
        yield Entry("setting", ("short_open_tag",), level, "on", rule, tuple(places[:MAX_PLACES]), len(places))
