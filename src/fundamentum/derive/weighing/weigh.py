"""How strongly one extension is needed: rules in the order in which they decide."""

import re
from collections.abc import Callable, Iterable, Sequence
from functools import cached_property
from typing import Final

import msgspec

from fundamentum.catalog.symbols import EVERYWHERE
from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.families import ASIDE, TOOLS, words_for
from fundamentum.derive.php_source.facts import INSTEAD_OF, Check
from fundamentum.derive.result import Place
from fundamentum.derive.statements.requirement_names import OF_REQUIREMENTS
from fundamentum.derive.weighing.evidence import Evidence
from fundamentum.derive.weighing.pages import FIRST
from fundamentum.derive.weighing.places import asked, places
from fundamentum.derive.weighing.reasons import places_of, states_its_needs, why, why_optional
from fundamentum.model.needs_value import Level

MAX_PLACES: Final = 12
ALL_OVER: Final = 8
"""Files that use something without a check: it is more than advised, whatever the program calls it."""
_CHOSEN: Final = re.compile(r"(?:drivers?|plugins?|adapters?|backends?|handlers?|addons?)[._-]", re.I)
"""How files are called that are one of several, be their own names what they may."""
_ASKED: Final = ("asked", "reports", "warns")


class Verdict(msgspec.Struct, frozen=True):
    """One extension, before alternatives are put together."""

    extension: str
    level: Level | None
    """None: no need at all."""
    rule: str
    places: tuple[Place, ...]
    files: int
    plain: bool = False
    """Used without a check in the application's own code."""
    stated: bool = False
    """A manifest or the program itself says so: not a matter of judgement."""
    among: tuple[str, ...] = ()
    """The program stops only where all of these are missing."""
    chosen: bool = False
    """Required, though each of its uses is chosen: it is what the application is about."""


Checks = Sequence[tuple[SourceFile, Check]]


class Case:
    """All evidence about one extension, and the rules that weigh it."""

    def __init__(self, evidence: Evidence, extension: str, called: frozenset[str]) -> None:
        self.evidence, self.extension, self.called = evidence, extension, called
        uses = evidence.uses(extension)
        self.seen = [use for use in uses if not evidence.own_symbol(use.use) or use.guard]
        self.replaced = [use for use in uses if evidence.own_symbol(use.use)]
        self.checks = evidence.checks(extension)
        self.own = [seen for seen in self.seen if seen.file.part in ("own", "optional")]
        self.plain = [seen for seen in self.own if seen.plain]
        self.strong = [seen for seen in self.own if not seen.use.weak and seen.guard != "never"]

    @cached_property
    def telling(self) -> list[Place]:
        """The places worth showing, the most telling first."""
        return places(self.seen, self.checks)

    def verdict(
        self, level: Level | None, rule: str, first: Iterable[Place] = (), *, plain: bool = False, stated: bool = False
    ) -> Verdict:
        """The verdict, with the places that decided before the others."""
        files = self.evidence.candidates(self.extension, "own", "optional")
        places = {(place.path, place.line, place.what): place for place in (*self.telling, *first)}
        order = dict.fromkeys((place.path, place.line, place.what) for place in (*first, *self.telling))
        shown = tuple(places[key] for key in order)[:MAX_PLACES]
        return Verdict(self.extension, level, rule, shown, files, plain, stated)

    def outcome(self, *outcomes: str) -> Checks:
        """Checks of the application's own with one of these outcomes."""
        return [(file, check) for file, check in self.checks if file.part == "own" and check.outcome in outcomes]

    def required_by_a_manifest(self) -> Verdict | None:
        """The application's manifest, or that of a library that came along."""
        statements = [statement for statement in self.evidence.stated(self.extension) if statement.level == "required"]
        if not statements:
            return None
        by = statements[0].by
        rule = "the manifest requires it" if by == "the application" else f"the library {by} requires it"
        return self.verdict("required", rule, places_of(statements, "required"), stated=True)

    def _left_at_the_front(self) -> Checks:
        """Checks where the first file of a page tells why and leaves; one that is included leaves only its own part."""
        return [
            (file, check)
            for file, check in self.outcome("leaves")
            if file.path.count("/") <= self.evidence.top or FIRST.match(file.path.rpartition("/")[2])
        ]

    def stops_without_it(self) -> Verdict | None:
        """``if (!extension_loaded('gd')) die(...)``"""
        stops = [
            (file, check)
            for file, check in [*self.outcome("exits"), *self._left_at_the_front()]
            if (OF_REQUIREMENTS in check.around.split() or not self.evidence.driver(file.path, "", self.extension))
            and not _CHOSEN.match(file.path.rpartition("/")[2])
            and (file.path, self.extension) not in self.evidence.pages
        ]
        if not stops:
            return None
        verdict = self.verdict("required", "the program stops where it is missing", asked(stops), stated=True)
        return _as_one_of(verdict, [check for _, check in stops], plain=self._used_anyway)

    @property
    def _used_anyway(self) -> bool:
        """Whether something that is called runs without a check."""
        return any(seen.use.kind != "constant" for seen in self.plain)

    def _of_driver(self, file: SourceFile, check: Check) -> bool:
        """Whether what asks is itself one of several that are named after what they need: it asks for itself."""
        return self.evidence.driver(file.path, check.around.partition(" ")[0], self.extension)

    def listed_as_required(self) -> Verdict | None:
        """A list of extensions whose name says that they are required."""
        listed = [
            (file, check)
            for file, check in self.outcome("listed-required")
            if not check.around or not self._of_driver(file, check)
        ]
        return (
            self.verdict("required", "the program lists it as required", asked(listed), stated=True) if listed else None
        )

    def reported_as_missing(self) -> Verdict | None:
        """Where its requirements are looked at, the program calls it an error that the extension is missing."""
        checks = [
            (file, check)
            for file, check in self.outcome("reports", "throws", "leaves")
            if self.evidence.looks_at_requirements(file.path, check) and not self._of_driver(file, check)
        ]
        if not checks:
            return None
        verdict = self.verdict(
            "required", "the program reports an error where it is missing", asked(checks), stated=True
        )
        return _as_one_of(verdict, [check for _, check in checks], plain=self._used_anyway)

    def suggested_by_the_manifest(self) -> Verdict | None:
        """``"suggest": {"ext-imap": "why"}``"""
        statements = [
            statement for statement in self.evidence.stated(self.extension) if statement.by == "the application"
        ]
        if not statements:
            return None
        return self.verdict(
            "recommended", f"the manifest suggests it{why(statements[0])}", places_of(statements, "suggested")
        )

    def listed_as_recommended(self) -> Verdict | None:
        """A list of extensions whose name says that they are recommended."""
        listed = self.outcome("listed-recommended")
        rule = "the program lists it as recommended"
        return self.verdict("recommended", rule, asked(listed), plain=bool(self.plain)) if listed else None

    def replaced_where_missing(self) -> Verdict | None:
        """The application defines what it uses itself."""
        if not self.replaced or self.plain:
            return None
        running = self.evidence.classes_that_run
        if not self.checks and not self.own and all(seen.use.name.lower() in running for seen in self.replaced):
            # Where the extension is loaded, PHP does not take a second class of the name.
            return self.verdict(None, "the application defines it itself", places(self.replaced, ()))
        rule = "the application brings a replacement of its own"
        own = [seen for seen in self.replaced if seen.file.part in ("own", "optional")]
        return self.verdict("recommended", rule, places(own or self.replaced, self.checks))

    def provided_by_a_library(self) -> Verdict | None:
        """A library that came along stands in for it: its manifest says that it provides the extension."""
        by = dict(self.evidence.manifest.provided).get(self.extension, "")
        if not by or not self.strong:
            return None
        return self.verdict("recommended", f"the library {by} stands in where it is missing")

    def used_plainly(self) -> Verdict | None:
        """A use that always runs; unless more files use it only behind a check."""
        if not self.plain:
            return None
        if all(seen.use.kind == "constant" for seen in self.plain):
            if any(seen.use.kind != "constant" for seen in self.strong):
                return None  # what else is used of it decides
            return self.verdict("recommended", "only constants of it stand in the source")
        if self._in_files_of_its_own():
            return self.verdict("recommended", "used only in files that are called after it, and asked for elsewhere")
        files = {seen.file.path for seen in self.plain}
        rule = f"used without a check in {'one file' if len(files) == 1 else 'several files'}"
        protected = {seen.file.path for seen in self.own if seen.guard in ("checked", "caught")} - files
        if any(check.outcome in _ASKED for _, check in self.checks) and len(protected) >= len(files):
            return self.verdict("recommended", f"{rule}, but in more files only behind a check")
        return self.verdict("required", rule, plain=True)

    def _in_files_of_its_own(self) -> bool:
        """Whether all that uses it is called after it, another file asks for it, and the program is not about it."""
        if self.extension not in ASIDE or self.evidence.central(self.extension):
            return False
        named = re.compile(rf"(?<![a-z])(?:{'|'.join(map(re.escape, words_for(self.extension)))})(?![a-z])")
        using = {seen.file.path for seen in self.plain}
        asking = {file.path for file, check in self.checks if file.part == "own" and check.outcome in _ASKED}
        return bool(asking - using) and all(named.search(path.rpartition("/")[2].lower()) for path in using)

    def warned_about(self) -> Verdict | None:
        """Where its requirements are looked at, the program advises it; what it uses all over is more than that."""
        if len({seen.file.path for seen in self.plain}) >= ALL_OVER:
            return None
        ranked = [
            (file, check)
            for file, check in self.outcome("warns")
            if self.evidence.looks_at_requirements(file.path, check) and not self._of_driver(file, check)
        ]
        return self.verdict("recommended", "the program advises it", asked(ranked)) if ranked else None

    def fallen_back_on(self) -> Verdict | None:
        """``if (sodium) ... else openssl_encrypt(...)``: without both it fails; unless more files only ask for it."""
        instead = [
            seen for seen in self.strong if seen.guard == "instead" and not seen.driver and seen.use.kind != "constant"
        ]
        files = {seen.file.path for seen in instead if seen.file.part == "own"}
        protected = {seen.file.path for seen in self.own if seen.guard in ("checked", "caught")} - files
        names = (name for seen in instead for name in seen.use.names if name.startswith(INSTEAD_OF))
        rivals = [name for name in dict.fromkeys(name.removeprefix(INSTEAD_OF) for name in names) if name not in TOOLS]
        if not rivals or len(protected) >= len(files):
            return None
        rule = f"used without a check where {' or '.join(rivals)} is missing"
        verdict = self.verdict("required", rule, places(instead, ()))
        return msgspec.structs.replace(verdict, among=(*rivals, self.extension))

    def used_under_a_condition(self) -> Verdict | None:
        """Behind checks and choices only; if most of the application is about it, required all the same."""
        if not self.strong:
            return None
        if self.extension in TOOLS:
            return self.verdict(None, "a tool for developers, used only where it is there")
        if self._central():
            verdict = self.verdict("required", "what the application is about: most of its files use it", plain=True)
            return msgspec.structs.replace(verdict, chosen=True)
        return self.verdict("recommended", why_optional(self.strong))

    def suggested_by_a_library(self) -> Verdict | None:
        """A library's own manifest suggests it."""
        statements = [
            statement for statement in self.evidence.stated(self.extension) if statement.level == "recommended"
        ]
        if not statements:
            return None
        rule = f"the library {statements[0].by} suggests it{why(statements[0])}"
        return self.verdict("recommended", rule, places_of(statements, "suggested"))

    def used_by_a_library(self) -> Verdict | None:
        """A bundled library uses it; that counts where something outside the library calls it."""
        bundled = [seen for seen in self.seen if seen.file.part == "bundled" and not seen.use.weak]
        if not bundled:
            return None
        reached = [seen for seen in bundled if seen.file.library in self.called]
        if any(not states_its_needs(self.evidence, seen.file.library) for seen in reached):
            return self.verdict("recommended", "a library that came with the application uses it")
        if any(not seen.driver for seen in reached):
            return self.verdict("recommended", "a library uses it, whose own manifest does not require it")
        if reached:
            return self.verdict(None, "one of several that a library can use: it is in its drivers only")
        return self.verdict(None, "only a library uses it, which nothing outside it calls")

    def asked_for(self) -> Verdict | None:
        """Somewhere the program asks whether it is there."""
        asks = any(check.outcome in _ASKED and file.part in ("own", "optional") for file, check in self.checks)
        if not asks or self.extension in EVERYWHERE or self.extension in TOOLS:
            return None
        return self.verdict("recommended", "the program asks whether it is there")

    def only_mentioned(self) -> Verdict:
        """In types, comments, strings, names."""
        never = any(seen.guard == "never" for seen in self.own)
        told = "what uses it runs on no PHP of today" if never else "only mentioned: nothing calls it"
        there = self.seen or self.checks
        return self.verdict(None, told if there else "its words stand in comments, strings or names only")

    def _central(self) -> bool:
        """Whether so large a part of the files speaks of it that the application makes no sense without it."""
        if all(seen.guard in ("checked", "caught") or seen.file.part != "own" for seen in self.strong):
            return False
        return self.evidence.central(self.extension)


RULES: Final[tuple[Callable[[Case], Verdict | None], ...]] = (
    Case.required_by_a_manifest,
    Case.stops_without_it,
    Case.listed_as_required,
    Case.reported_as_missing,
    Case.suggested_by_the_manifest,
    Case.listed_as_recommended,
    Case.replaced_where_missing,
    Case.provided_by_a_library,
    Case.warned_about,
    Case.used_plainly,
    Case.fallen_back_on,
    Case.used_under_a_condition,
    Case.suggested_by_a_library,
    Case.used_by_a_library,
    Case.asked_for,
    Case.only_mentioned,
)


def judge(evidence: Evidence, extension: str, called: frozenset[str] = frozenset()) -> Verdict:
    """The level of one extension.  ``called``: bundled libraries that the application's own code calls."""
    case = Case(evidence, extension, called)
    decided = next(verdict for rule in RULES if (verdict := rule(case)) is not None)
    if decided.level != "recommended" and not decided.chosen:
        return decided
    refused = next((check for _, check in case.outcome("throws") if check.among), None)
    return msgspec.structs.replace(decided, among=refused.among) if refused else decided


def _as_one_of(verdict: Verdict, checks: Sequence[Check], *, plain: bool) -> Verdict:
    """The verdict, for one of several if that is what all of the checks ask for."""
    if any(not check.among for check in checks):
        return verdict
    return msgspec.structs.replace(verdict, among=checks[0].among, plain=plain)
