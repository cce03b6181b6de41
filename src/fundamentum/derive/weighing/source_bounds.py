"""The bounds of PHP's version that an application's source sets, whatever is stated."""

from collections.abc import Sequence
from contextlib import suppress
from functools import cache
from typing import Final, Literal

from fundamentum.catalog import branch_key
from fundamentum.derive.php_source.facts import Syntax
from fundamentum.derive.php_source.syntax import RULES
from fundamentum.derive.reading.parsing import Parsing
from fundamentum.derive.reading.scan import Scanned
from fundamentum.derive.reading.words import versioned_words
from fundamentum.derive.statements.callers import MAX_PLACES, Callers
from fundamentum.derive.weighing.evidence import Evidence
from fundamentum.untrusted.budget import Spent

BRANCHES: Final = tuple(dict.fromkeys(rule.since for rule in RULES if rule.since))
"""Branches with constructs of their own, newest first."""

_CONSTRUCTS: Final = frozenset(rule.what for rule in RULES)
Places = list[tuple[str, Syntax]]
Edge = Literal["since", "gone"]


@cache
def _branches_that_took() -> Sequence[str]:
    """Branches with which something is gone, the oldest first."""
    symbols = {gone for spans in versioned_words().values() for _, gone in spans}
    return sorted(filter(None, symbols | {rule.gone for rule in RULES}), key=branch_key)


@cache
def _words_of(edge: Edge, branch: str) -> frozenset[bytes]:
    """The words that came or went with a branch."""
    place = ("since", "gone").index(edge)
    return frozenset(word for word, spans in versioned_words().items() if any(span[place] == branch for span in spans))


def _counting(scanned: Sequence[Scanned], evidence: Evidence) -> Sequence[Scanned]:
    """The files that have to parse: the application's own, but those it includes only under some versions of PHP."""
    aside = {name for facts in evidence.facts.values() for name in facts.versioned}
    own = [
        file
        for file in scanned
        if file.file.part in ("own", "optional") and file.file.path.rpartition("/")[2] not in aside
    ]  # fmt: skip
    return own or [file for file in scanned if file.file.part == "bundled"]


_CHECKED: Final = ("checked", "never")


class SourceBounds:
    """The bounds that the source sets: by constructs of the language, and by symbols that came or went."""

    def __init__(self, parsing: Parsing, evidence: Evidence, callers: Callers, stated: str) -> None:
        """``stated``: the lowest branch that is stated; empty: none is."""
        self.parsing, self.evidence, self.callers, self.stated = parsing, evidence, callers, stated
        self.files = _counting(parsing.scanned, evidence)
        self._known: tuple[int, set[tuple[str, int]]] = (-1, set())

    def lower(self) -> tuple[str, Places]:
        """The highest branch that something needs, with the places."""
        for branch in BRANCHES:
            if self.stated and branch_key(branch) <= branch_key(self.stated):
                break
            if places := self._places("since", branch, self.files):
                return branch, places
        return "", []

    def readable(self) -> str:
        """The lowest branch that can read the source: of the newest construct that no one can do without.

        It stands in more than one file, or in one that many places reach.
        """
        for branch in BRANCHES:
            if self.stated and branch_key(branch) <= branch_key(self.stated):
                break
            places = self._places("since", branch, self.files, constructs=True)
            files = {path for path, _ in places}
            if len(files) > 1 or any(self.callers.reach(path) > MAX_PLACES for path in files):
                return branch
        return ""

    def upper(self, least: str) -> Places:
        """What the first later branch no longer has, unless the lower bound rules that out already."""
        own = [file for file in self.files if file.file.part == "own"]
        later = (branch for branch in _branches_that_took() if not least or branch_key(branch) > branch_key(least))
        for branch in later:
            if places := self._places("gone", branch, own):
                return places
        return []

    def _places(self, edge: Edge, branch: str, files: Sequence[Scanned], *, constructs: bool = False) -> Places:
        """Constructs and symbols that came or went with a branch.  Files that may hold one are parsed until two do.

        ``constructs``: these alone.
        """
        # What the application brings itself, or a library of its does, bounds nothing, wherever it is used.
        brought = edge == "since" and branch in self.evidence.manifest.brought
        words = frozenset() if constructs or brought else _words_of(edge, branch)
        words -= {name.encode("latin-1", "replace") for name in self._defined()}
        rules = {number for number, rule in enumerate(RULES) if getattr(rule, edge) == branch}
        may = [file for file in files if not words.isdisjoint(file.words) or not rules.isdisjoint(file.constructs)]

        def found() -> Places:
            defined, protected = self._defined(), self._protected()
            return [
                (scanned.file.path, syntax)
                for scanned in may
                if scanned.file.path in self.parsing.facts
                for syntax in self.parsing.facts[scanned.file.path].syntax
                if getattr(syntax, edge) == branch
                and syntax.what.removesuffix("()").lower() not in defined
                and (
                    syntax.what in _CONSTRUCTS
                    if constructs or brought or syntax.what in _CONSTRUCTS
                    else (scanned.file.path, syntax.line) not in protected
                )
            ]

        with suppress(Spent):
            self.parsing.read_until(may, lambda: len({path for path, _ in found()}) > 1)
        return found()

    def _protected(self) -> set[tuple[str, int]]:
        """Path and line of what is used of extensions behind a check, be it one around from where it is reached."""
        if self._known[0] != len(self.evidence.facts):
            every = (self.evidence.uses(extension) for extension in self.evidence.uses_by_extension())
            behind = {(seen.file.path, seen.use.line) for uses in every for seen in uses if seen.guard in _CHECKED}
            self._known = len(self.evidence.facts), behind
        return self._known[1]

    def _defined(self) -> set[str]:
        return self.evidence.defined_functions | self.evidence.defined_classes
