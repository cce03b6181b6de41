"""Which places of the evidence are worth showing, and how each is put in words."""

from collections.abc import Sequence
from typing import Final

from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.php_source.facts import Check
from fundamentum.derive.result import Place
from fundamentum.derive.weighing.seen import Seen

_HOW: Final = {
    "checked": "behind a check",
    "caught": "its failure is caught",
    "explained": "its absence is explained",
    "chosen": "chosen by configuration",
    "instead": "instead of another",
    "version": "behind a test of PHP's version",
    "never": "runs on no PHP of today",
}


def places(seen: Sequence[Seen], checks: Sequence[tuple[SourceFile, Check]]) -> list[Place]:
    """Plain uses first, then protected ones; files of the application's own before others; one of each file first."""
    order = {"own": 0, "optional": 1, "bundled": 2, "aside": 3}
    ranked = sorted(
        seen,
        key=lambda one: (
            not one.plain,
            order[one.file.part],
            one.use.weak,
            one.file.path.count("/"),
            one.file.path,
            one.use.line,
        ),
    )
    first: list[Place] = []
    rest: list[Place] = []
    met: set[str] = set()
    for use in ranked:
        how = _HOW.get(use.guard, "")
        if not how and use.use.weak:
            how = "only mentioned"
        if not how and (use.driver or use.file.part == "optional"):
            how = "in a part that is chosen"
        if not how and use.file.part == "bundled":
            how = "in a library"
        place = Place(use.file.path, use.use.line, use.use.name, how)
        (rest if use.file.path in met else first).append(place)
        met.add(use.file.path)
    return [*first[:6], *asked(checks)[:3], *first[6:], *rest]


def asked(checks: Sequence[tuple[SourceFile, Check]]) -> list[Place]:
    words = {
        "asked": "asks", "exits": "stops without it", "leaves": "leaves without it", "throws": "fails without it",
        "reports": "reports an error without it", "warns": "advises it",
    }  # fmt: skip
    return [Place(file.path, check.line, check.what, words.get(check.outcome, "")) for file, check in checks]


def stated_place(where: str, what: str) -> Place:
    path, _, line = where.rpartition(":")
    return Place(path, int(line), what) if path and line.isdigit() else Place(where, 0, what)
