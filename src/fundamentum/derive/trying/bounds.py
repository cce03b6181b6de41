"""The versions of PHP that a program runs on, by what it does on each: from one on, or up to one."""

import re
from collections.abc import Iterator
from typing import Final, NamedTuple

from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.php_source.facts import Operator, Outcome
from fundamentum.derive.php_source.nodes import Patience
from fundamentum.derive.trying.coming import Comes
from fundamentum.derive.trying.program import Program
from fundamentum.derive.trying.runs import ENOUGH, Run
from fundamentum.derive.trying.trials import MAX_FURTHER, Trial
from fundamentum.derive.trying.versions import Version, of_number
from fundamentum.derive.trying.worlds import PHP, Asked, World

_BRANCHES: Final = tuple(
    (major, minor) for major, minors in ((5, 7), (7, 5), (8, 8), (9, 2)) for minor in range(minors)
)
"""Branches of PHP that there were and may be."""
_MOST: Final = 99
MAX_VERSIONS: Final = 90
_WRITTEN: Final = re.compile(r"(\d)(?:\.(\d{1,2}))?(?:\.(\d{1,2}))?")
_NUMBER: Final = re.compile(r"[5-9]\d{4}")
_LITERALS: Final = frozenset({"string", "encapsed_string", "integer", "float"})


class Bound(NamedTuple):
    """A version from which on, or before which, the program runs."""

    operator: Operator
    version: str
    outcome: Outcome
    how: str
    asked: Asked


def bounds(trial: Trial) -> Iterator[Bound]:
    """The bounds that one way into a program sets."""
    if PHP in trial.base.world.asked:
        yield from _Search(trial).found()


def bounds_of_code(code: bytes) -> list[Bound]:
    """The bounds that a piece of code sets which is run by itself."""
    Patience.begin()
    program = Program([SourceFile("-", len(code), "own")], {}, lambda _: code)
    return list(bounds(Trial(program, lambda machine: machine.whole_file("-"))))


class _Search:
    """One way into a program on version after version."""

    def __init__(self, trial: Trial) -> None:
        self.trial = trial
        self.written = _written(trial.base)
        self.apart = trial.base.world.looks.apart
        """Whether each version may be one of its own."""
        self._known: dict[Version, Comes] = {}

    def comes(self, version: Version) -> Comes:
        """What it comes to on a version."""
        if version not in self._known:
            run = self.trial.run(World(version=version))
            self.written |= _written(run)
            self.apart = self.apart or run.world.looks.apart
            self._known[version] = self.trial.compared(run, (PHP,))
        return self._known[version]

    def refuses(self, version: Version, outcome: Outcome) -> bool:
        """Whether it comes to that, and surely."""
        comes = self.comes(version)
        return comes.outcome == outcome and not comes.doubt

    def found(self) -> Iterator[Bound]:
        """The bounds of the versions that are accepted; none where they are no range.

        Of a list with gaps it is from the first to the last: a list ends with what there was, others go on to the
        newest.
        """
        versions = _to_try(self.written, grid=self.apart)
        if not any(self._otherwise(version) for version in (versions[0], versions[-1])):
            return
        for _ in range(MAX_FURTHER):
            before = len(self.written)
            for version in versions:  # what is compared only where the version is none of the newest
                self.comes(version)
            if len(self.written) == before:
                break
            versions = _to_try(self.written, grid=self.apart)
        for outcome in _REFUSING:
            there = [at for at, version in enumerate(versions) if not self.refuses(version, outcome)]
            if len(there) == len(versions):
                continue
            last = len(versions) - 1
            if there and (len(there) == there[-1] - there[0] + 1 or there[-1] < last):
                if there[0] > 0:
                    yield self._border(versions[there[0] - 1], versions[there[0]], ">=", outcome)
                if there[-1] < last:
                    yield self._border(versions[there[-1]], versions[there[-1] + 1], "<", outcome)
            break
        yield from self._advised(versions)

    def _advised(self, versions: list[Version]) -> Iterator[Bound]:
        """The version from which on it has nothing more to advise, if it is one that it runs on."""
        warned = [at for at, version in enumerate(versions) if self.refuses(version, "warns")]
        if warned and warned[-1] < len(versions) - 1 and not self.comes(versions[warned[-1] + 1]).outcome:
            yield self._border(versions[warned[-1]], versions[warned[-1] + 1], ">=", "warns")

    def _otherwise(self, version: Version) -> bool:
        """Whether the program does anything otherwise on a version."""
        run, base = self.trial.run(World(version=version)), self.trial.base
        if base.end == ENOUGH:
            return run.end in ("exits", "throws")
        return not run.alike(base) or run.handed != base.handed

    def _border(self, before: Version, after: Version, operator: Operator, outcome: Outcome) -> Bound:
        """The bound between two versions, of which one is refused."""
        refused = self.refuses(before, outcome)
        branch, low = before[:2], before[2]
        high = after[2] if after[:2] == branch else _MOST
        border = after
        if self.refuses((*branch, high), outcome) is not refused:
            while high - low > 1:
                middle = (low + high) // 2
                otherwise = self.refuses((*branch, middle), outcome) is not refused
                low, high = (low, middle) if otherwise else (middle, high)
            border = (*branch, high)
        wrong = before if operator == ">=" else border
        named = [text for text, version in self.written.items() if version == border]
        text = max(named, key=len, default="{}.{}.{}".format(*border).removesuffix(".0"))
        place = self.trial.place((PHP,), self.trial.run(World(version=wrong)))
        return Bound(operator, text, outcome, self.comes(wrong).how, place)


_REFUSING: Final[tuple[Outcome, ...]] = ("stops", "reports")


def _written(run: Run) -> dict[str, Version]:
    """The versions that PHP's own is compared with, as they are written; else all in what is gone through."""
    looks = run.world.looks
    compared = dict(looks.compared)
    literals = [part.text.strip("'\"") for part in run.seen if part.type in _LITERALS] if looks.apart else []
    for plain in literals:
        if match := _WRITTEN.fullmatch(plain):
            compared[match[0].rstrip(".")] = int(match[1]), int(match[2] or 0), int(match[3] or 0)
        elif match := _NUMBER.fullmatch(plain.replace("_", "")):
            version = of_number(int(match[0]))
            compared["{}.{}.{}".format(*version).removesuffix(".0")] = version
    return {plain: version for plain, version in list(compared.items())[:MAX_VERSIONS] if 5 <= version[0] <= 9}


def _to_try(written: dict[str, Version], *, grid: bool) -> list[Version]:
    """The versions to try: those around what is written out; with ``grid`` the first of each branch, too."""
    known: set[Version] = {(major, minor, 0) for major, minor in _BRANCHES if grid or minor in (0, 4)}
    for major, minor, patch in written.values():
        known |= {(major, minor, max(patch - 1, 0)), (major, minor, patch)}
        known.add((major, minor, patch + 1) if patch < _MOST else (major, minor + 1, 0))
    return sorted(known)
