"""All that a tree tells of one extension, gathered from its files and manifests."""

import functools
import itertools
from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Final

import msgspec

from fundamentum.catalog.symbols import EVERYWHERE
from fundamentum.derive import result
from fundamentum.derive.application.tree import Part, SourceFile
from fundamentum.derive.beside.stated import Manifest, Stated
from fundamentum.derive.families import CHOOSABLE
from fundamentum.derive.php_source.facts import Check, FileFacts, Guard, Use
from fundamentum.derive.reading.scan import Scanned
from fundamentum.derive.statements.callers import Fallbacks, Reached, guard_of, is_fallback
from fundamentum.derive.statements.composed_names import Composed
from fundamentum.derive.statements.reaching import Place
from fundamentum.derive.statements.requirement_names import looks_at_requirements
from fundamentum.derive.weighing.drivers import Drivers
from fundamentum.derive.weighing.missing_around import missing_around
from fundamentum.derive.weighing.seen import Seen, Standing

FEW: Final = 3
"""Files that tell nothing of what a whole application is about."""
MANY: Final = 12
"""Files that use an extension, from which on no one asks from where each is reached."""
CENTRAL: Final = 0.5
"""The share of an application's files from which on an extension is what it is about."""
MANY_CHECKS: Final = 4
"""Extensions of which a file tells something when they are missing: it is there to look at what is required."""


_OPEN: Final = ("", "instead")
"""What leaves a use to what protects the place from which it is reached."""


class Evidence:
    """The facts of all files together.  What depends on all of them is settled when it is first asked for."""

    def __init__(
        self,
        scanned: Sequence[Scanned],
        facts: Mapping[str, FileFacts],
        manifest: Manifest,
        composed: Callable[[], Collection[Composed]] = list,
    ) -> None:
        """``composed``: tells, when it is asked, the names that the program puts together."""
        self.scanned = scanned
        self.reached: Reached = {}
        """What is reached only behind checks."""
        self.fallbacks: Fallbacks = frozenset()
        """What is reached only where another extension is missing."""
        self.pages: frozenset[tuple[str, str]] = frozenset()
        """Files, each a page among others, with the extension without which it ends."""
        self.offered: Mapping[str, result.Place] = {}
        """Databases that samples of the configuration offer."""
        self.experimental: Collection[str] = ()
        """Vendors of those that documents call experimental."""
        self.files = {file.file.path: file.file for file in scanned}
        self.facts = facts
        self.manifest = manifest
        self._composed = functools.cache(composed)
        self._uses: dict[str, list[tuple[str, Use]]] = defaultdict(list)
        self._checks: dict[str, list[tuple[SourceFile, Check]]] = defaultdict(list)
        self._told_of: dict[str, set[str]] = defaultdict(set)
        """File → the extensions of which it reports or advises something."""
        self._functions: set[str] = set()
        self._classes: set[str] = set()
        self.classes_that_run: set[str] = set()
        """Those of the classes that are no stubs for tools, nor in a library, which defines what is not there."""
        self._constants: set[str] = set()
        self._known = 0

    @cached_property
    def top(self) -> int:
        """How many directories down the application's own files begin."""
        return min((path.count("/") for path, file in self.files.items() if file.part == "own"), default=0)

    @cached_property
    def driver(self) -> Drivers:
        """Whether a file or class is one of several ways to do a thing."""
        return Drivers(
            self.files, lambda name: {file.file.path for file in self._speaking.get(name, ())}, self._composed
        )

    @cached_property
    def named_checks(self) -> Mapping[str, frozenset[str]]:
        """Functions and constants that hold the result of a check → the extensions."""
        by_place: dict[str, set[str]] = defaultdict(set)
        for facts in self.facts.values():
            for name, extension in facts.check_names:
                if name.endswith("()") or name.isupper():
                    by_place[name].add(extension)
        return {name: frozenset(extensions) for name, extensions in by_place.items()}

    @property
    def defined_functions(self) -> set[str]:
        """Functions of the tree's own that carry the name of one that an extension provides."""
        self._index()
        return self._functions

    @property
    def defined_classes(self) -> set[str]:
        """The same for classes."""
        self._index()
        return self._classes

    @property
    def defined_constants(self) -> set[str]:
        """The same for constants."""
        self._index()
        return self._constants

    def uses_by_extension(self) -> Mapping[str, Sequence[tuple[str, Use]]]:
        """Extension → (path, use), for the files that are known by now."""
        self._index()
        return self._uses

    def _index(self) -> None:
        """Take in the files that have been parsed since."""
        if self._known == len(self.facts):
            return
        for path in itertools.islice(self.facts, self._known, None):
            facts = self.facts[path]
            for use in facts.uses:
                for extension in use.extensions:
                    self._uses[extension].append((path, use))
            for check in facts.checks:
                self._checks[check.extension].append((self.files[path], check))
                if check.outcome in ("reports", "warns"):
                    self._told_of[path].add(check.extension)
            self._functions.update(facts.functions)
            self._classes.update(facts.classes)
            if self.files[path].part == "own" and "stub" not in path.lower():
                self.classes_that_run.update(facts.classes)
            self._constants.update(facts.constants)
        self._known = len(self.facts)

    def own_symbol(self, use: Use) -> bool:
        """Whether the application defines the thing itself."""
        if use.kind == "function":
            return use.name.removesuffix("()") in self.defined_functions
        if use.kind == "constant":
            return use.name in self.defined_constants
        return use.kind == "class" and use.name.lower() in self.defined_classes

    def uses(self, extension: str) -> list[Seen]:
        """Every use of the extension in the files that were parsed."""
        out = []
        for path, use in self.uses_by_extension().get(extension, ()):
            if use.own and "\\" in use.own and use.own in self.defined_functions:
                continue  # it is not the extension's at all
            guard = use.guard
            if guard in _OPEN:
                guard = self._named_guard(path, use, extension) or guard
            held = self.facts[path].check_names
            if guard in ("", "chosen") and (missing := missing_around(use.names, extension, self.named_checks, held)):
                guard, use = "instead", msgspec.structs.replace(use, names=(*missing, *use.names))
            # What is taken wherever another extension is missing is not one of several ways that somebody chooses.
            fallback = not guard and is_fallback(path, use, extension, self.fallbacks)
            driver = not fallback and self.driver(path, use.scope, extension, use.function)
            out.append(Seen(self.files[path], use, guard, driver))
        return out

    def without_another(self, path: str, place: Place, extension: str) -> bool:
        """Whether a place reaches what it does only where another extension is missing."""
        held = self.facts[path].check_names if path in self.facts else ()
        return place.instead[extension] or bool(missing_around(place.names, extension, self.named_checks, held))

    def unguarded(self, asked: Collection[str]) -> Iterator[tuple[str, Use, str]]:
        """Path, use and extension, of all that nothing around them protects, of what few files use so.

        Of extensions that are asked for, or that code is written around.
        """
        for extension, uses in self.uses_by_extension().items():
            if (extension not in asked and extension not in CHOOSABLE) or extension in EVERYWHERE:
                continue
            own = [(path, use) for path, use in uses if self.files[path].part in ("own", "optional")]
            plain = [
                (path, use)
                for path, use in own
                if use.guard in _OPEN and not use.weak and not self._answered(path, use.names, extension)
            ]
            if len({path for path, _ in plain}) <= MANY and not self._demanded(extension):
                yield from ((path, use, extension) for path, use in plain)

    def _demanded(self, extension: str) -> bool:
        """Whether it is required in any case: a manifest, or the program itself says so."""
        return any(statement.level == "required" for statement in self.stated(extension)) or any(
            file.part == "own"
            and (
                check.outcome in _ENDING
                or (check.outcome == "reports" and self.looks_at_requirements(file.path, check))
            )
            and not check.among
            and (file.path, extension) not in self.pages
            and not self.driver(file.path, check.around.partition(" ")[0], extension)
            for file, check in self.checks(extension)
        )

    def looks_at_requirements(self, path: str, check: Check) -> bool:
        """Whether a check stands where the program looks at what it requires: by its name, or with many others."""
        self._index()
        return looks_at_requirements(path, check.around) or len(self._told_of[path]) >= MANY_CHECKS

    def standing(self, extension: str) -> Standing:
        """How the application's own files use an extension, as far as they are known by now."""
        plain, protected, instead = set[str](), set[str](), set[str]()
        for use in self.uses(extension):
            if use.file.part not in ("own", "optional"):
                continue
            if use.plain and use.use.kind != "constant":
                plain.add(use.file.path)
            elif use.guard in ("checked", "caught"):
                protected.add(use.file.path)
            elif use.guard == "instead":
                instead.add(use.file.path)
        return Standing(plain, protected - plain, instead - plain)

    def _answered(self, path: str, names: Iterable[str], extension: str) -> bool:
        """Whether one of the names of functions and constants is of one that answers for the extension.

        Or the file is a page that ends without it.
        """
        return (path, extension) in self.pages or any(extension in self.named_checks.get(name, ()) for name in names)

    def protects(self, path: str, place: Place, extension: str) -> Guard:
        """What protects what a place reaches: what stands around it, or an answer that is kept under a name there."""
        return place.guards[extension] or ("checked" if self._answered(path, place.names, extension) else "")

    def _named_guard(self, path: str, use: Use, extension: str) -> Guard:
        named = self._answered(path, use.names, extension)
        return "checked" if named else guard_of(path, use, extension, self.reached)

    def checks(self, extension: str) -> Sequence[tuple[SourceFile, Check]]:
        """Every check for the extension in the files that were parsed."""
        self._index()
        return self._checks.get(extension, [])

    def candidates(self, extension: str, *parts: Part) -> int:
        """Files of these parts in which a word of the extension stands."""
        return sum(scanned.file.part in parts for scanned in self._speaking.get(extension, ()))

    def central(self, extension: str) -> bool:
        """Whether so many of the application's own files speak of it that it is what the application is about."""
        return self.candidates(extension, "own", "optional") >= max(self._own_files * CENTRAL, FEW)

    @cached_property
    def _own_files(self) -> int:
        """Files of the application's own, chosen parts included."""
        return sum(1 for scanned in self.scanned if scanned.file.part in ("own", "optional"))

    @cached_property
    def _speaking(self) -> Mapping[str, Sequence[Scanned]]:
        by_extension: dict[str, list[Scanned]] = defaultdict(list)
        for scanned in self.scanned:
            for extension in scanned.extensions:
                by_extension[extension].append(scanned)
        return by_extension

    def stated(self, extension: str) -> list[Stated]:
        """What manifests say."""
        return [statement for statement in self.manifest.statements if statement.extension == extension]


_ENDING: Final = ("exits", "listed-required")


def extensions_seen(scanned: Iterable[Scanned], facts: Mapping[str, FileFacts], manifest: Manifest) -> list[str]:
    """Every extension of which something speaks."""
    seen = {extension for file in scanned if file.file.part != "aside" for extension in file.extensions}
    for fact in facts.values():
        seen |= {check.extension for check in fact.checks} | {e for use in fact.uses for e in use.extensions}
    seen |= {statement.extension for statement in manifest.statements}
    return sorted(seen)
