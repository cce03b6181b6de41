"""Which PHP an application runs on: what it states, held against the constructs and symbols that it uses."""

from collections.abc import Sequence
from contextlib import suppress
from functools import cache
from typing import Final, Literal

from fundamentum.catalog import branch_key
from fundamentum.derive.beside.manifest import Manifest, lowest_stated
from fundamentum.derive.php_source.facts import Syntax
from fundamentum.derive.php_source.syntax import RULES
from fundamentum.derive.reading.parsing import Parsing
from fundamentum.derive.reading.scan import Scanned
from fundamentum.derive.reading.words import versioned_words
from fundamentum.derive.result import Entry, Place
from fundamentum.derive.statements.callers import MAX_PLACES, Callers
from fundamentum.derive.statements.statements import Bound, Statements
from fundamentum.derive.weighing.evidence import Evidence
from fundamentum.model.constraints import EVERYTHING, as_range, common, intervals
from fundamentum.model.needs_value import NotUnderstood
from fundamentum.untrusted.budget import Spent

BRANCHES: Final = tuple(dict.fromkeys(rule.since for rule in RULES if rule.since))
"""Branches with constructs of their own, newest first."""

_CONSTRUCTS: Final = frozenset(rule.what for rule in RULES)
FRONT: Final = 2
"""Directories below an application's own in which a gate is one for the whole program."""
Places = list[tuple[str, Syntax]]
Edge = Literal["since", "gone"]


def php_of(
    parsing: Parsing, evidence: Evidence, callers: Callers, manifest: Manifest, said: Statements, base: str
) -> tuple[Entry | None, str, list[str]]:
    """The need for a version of PHP, the lowest branch accepted, and remarks where statement and source differ.

    ``base``: the application's own directory below the one that is looked at.
    """
    remarks: list[str] = []
    stated = lowest_stated(manifest)
    if not stated and (least_said := said.lower()):
        stated = _branch(least_said.version)
    bounds = _Bounds(parsing, evidence, callers, stated)
    bound, lower = bounds.lower()
    least = max(filter(None, (bound, stated)), key=branch_key, default="")
    upper = bounds.upper(least)
    if not (least and branch_key(least) >= (7, 0)) and (removed := _removed(said, evidence)):
        upper = removed
    readable = bounds.readable()
    if not manifest.php and (said.lower() or said.upper()):
        entry = _as_said(said, bound, lower, upper, remarks, base, manifest, readable)
        return entry, stated or bound, remarks
    ends = [end for end in (said.lower(), said.upper()) if end and _at_front(end, base)]
    return _entry(manifest, bound, lower, upper, remarks, said, readable, ends), stated or bound, remarks


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


def _removed(said: Statements, evidence: Evidence) -> Places:
    """Calls of what is gone with 7.0, unless the application has another way for databases, or it is one of several."""
    uses = evidence.uses_by_extension()
    if any(uses.get(name) for name in ("mysqli", "pdo", "pdo_mysql", "pgsql", "sqlite3")):
        return []
    plain = (bound for bound in said.removed if not evidence.driver(bound.path, "", "mysqli"))
    return [(bound.path, Syntax("", "7.0", bound.what, bound.line)) for bound in plain]


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


class _Bounds:
    """The bounds that the source sets: by constructs of the language, and by symbols that came or went."""

    def __init__(self, parsing: Parsing, evidence: Evidence, callers: Callers, stated: str) -> None:
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
        # What the application brings itself bounds nothing, wherever it is used.
        words = frozenset() if constructs else _words_of(edge, branch)
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
                    if constructs or syntax.what in _CONSTRUCTS
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


def _as_said(
    said: Statements,
    bound: str,
    lower: Places,
    upper: Places,
    remarks: list[str],
    base: str,
    manifest: Manifest,
    readable: str,
) -> Entry:
    """What the program itself states, with what its source uses where it states nothing.

    ``manifest``: what its libraries accept; ``readable``: the lowest branch that can read its source.
    """
    least, first_not = said.lower(), said.upper()
    stated = [end for end in (least, first_not) if end]
    places = [Place(end.path, end.line, end.what, "the program states it") for end in stated]
    low = least.version if least else bound
    if least and lower:
        path, construct = lower[0]
        low = low if _at_front(least, base) else bound
        counts = ": that counts" if bound in (low, readable) else ""
        remarks.append(
            f"{least.path}:{least.line} says that it needs PHP {least.version}, but {path}:{construct.line} uses "
            f"{construct.what}, which needs {bound}{counts}"
        )
    if readable and branch_key(readable) > branch_key(_branch(low)):
        low = readable
    of_libraries, told = lowest_stated(manifest), list[Place]()
    if of_libraries and (not low or branch_key(of_libraries) > branch_key(_branch(low))):
        low, told = of_libraries, _of_libraries(manifest)
    text = f">={low}" if low else ""
    gone = upper[0][1].gone if upper else ""
    above = first_not and (not low or branch_key(_branch(first_not.version)) > branch_key(_branch(low)))
    beyond = [first_not.version] if first_not and above else []  # else it speaks of something else
    beyond += [gone] if gone and (not low or branch_key(gone) > branch_key(_branch(low))) else []
    if beyond:
        text += f", <{min(beyond, key=lambda version: branch_key(_branch(version)))}"
    against = [_place(path, construct, f"gone with PHP {construct.gone}") for path, construct in upper[:6]]
    uses = [_place(path, construct, f"since PHP {construct.since}") for path, construct in lower[:6]]
    everything = (*places, *told, *uses, *against)
    return Entry("php", (), "required", text.removeprefix(", "), "the program itself states it", everything)


def _at_front(gate: Bound, base: str) -> bool:
    """Whether the whole program ends there, whatever is asked for; one further in speaks for what is behind it."""
    return gate.outcome == "stops" and not gate.aside and gate.path.count("/") <= FRONT + base.count("/")


def _of_libraries(manifest: Manifest) -> list[Place]:
    return [Place(where, 0, f"php {php}", "a library states it") for php, where in manifest.of_libraries[:6]]


def _branch(version: str) -> str:
    return ".".join([*version.split("."), "0"][:2])


def _entry(
    manifest: Manifest,
    bound: str,
    lower: Sequence[tuple[str, Syntax]],
    upper: Sequence[tuple[str, Syntax]],
    remarks: list[str],
    said: Statements,
    readable: str,
    ends: Sequence[Bound],
) -> Entry | None:
    """What the manifest states, or the source uses.  ``ends``: versions on which the program ends at the front."""
    accepted = manifest.accepted
    places = [_place(path, construct, f"since PHP {construct.since}") for path, construct in lower[:6]]
    against = [_place(path, construct, f"gone with PHP {construct.gone}") for path, construct in upper[:6]]
    if manifest.php and accepted != (EVERYTHING,):
        written = _placed(manifest.php_where, f"php {manifest.php}")
        if bound and branch_key(bound) > accepted[0].low[:2]:
            remarks.append(
                f"the manifest accepts PHP {'.'.join(map(str, accepted[0].low[:2]))}, "
                f"but {places[0]} uses {places[0].what}, which needs {bound}"
                f"{': that counts' if bound == readable else ''}"
            )
        if against and branch_key(upper[0][1].gone) < accepted[-1].high[:2]:
            remarks.append(
                f"{against[0]} uses {against[0].what}, which is gone with PHP {upper[0][1].gone}, "
                "though the manifest accepts it"
            )
        least = said.lower()
        if least and tuple(map(int, least.version.split(".")))[:2] > accepted[0].low[:2]:
            remarks.append(
                f"the manifest accepts PHP {'.'.join(map(str, accepted[0].low[:2]))}, but {least.path}:{least.line} "
                f"says that it needs {least.version}{': that counts' if least in ends else ''}"
            )
        runs = common(accepted, intervals(f">={readable}" if readable else "*")) or accepted
        narrowed = [
            end for end in ends if (left := common(runs, intervals(f"{end.operator}{end.version}"))) and left != runs
        ]
        for end in narrowed:
            runs = common(runs, intervals(f"{end.operator}{end.version}")) or runs
        told = [Place(end.path, end.line, end.what, "the program ends there on others") for end in narrowed]
        value = str(as_range(runs))
        return Entry("php", (), "required", value, "the manifest states it", (written, *told, *places, *against))
    text = f">={bound}" if bound else ""
    if upper and (not bound or branch_key(upper[0][1].gone) > branch_key(bound)):
        text = f"{text}, <{upper[0][1].gone}".removeprefix(", ")
    if accepted != (EVERYTHING,):
        try:
            both = common(accepted, intervals(text or "*"))
            text = str(as_range(both)) if both else text
        except NotUnderstood:
            pass
        rule = "what its libraries state and its source uses"
        places = [*_of_libraries(manifest), *places]
    else:
        rule = "the constructs and functions that its source uses"
    if not text:
        return None
    return Entry("php", (), "required", text, rule, (*places, *against))


def _place(path: str, syntax: Syntax, how: str) -> Place:
    return Place(path, syntax.line, syntax.what, how)


def _placed(where: str, what: str) -> Place:
    path, _, line = where.rpartition(":")
    return Place(path, int(line), what, "stated") if line.isdigit() else Place(where, 0, what, "stated")
