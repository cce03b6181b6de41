"""What the program itself says about the versions of PHP that it runs on, put together from all of its files."""

import re
from collections.abc import Mapping, Sequence
from typing import Final

import msgspec

from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.php_source.facts import FileFacts, Gate, Operator, Outcome
from fundamentum.derive.statements.requirement_names import of_an_installer

_STRENGTH: Final[tuple[Outcome, ...]] = ("reports", "stops")
_OUT_OF_THE_WAY: Final = re.compile(r"(?:^|/)(?:polyfills?|compat|lib|libs|libraries|inc/lib)/", re.I)


_OF_REQUIREMENTS: Final = re.compile(
    r"requir|version|environment|check|compat|install|setup|boot|preflight|diagnos|sanity|init|activat|support|assert|"
    r"ensure|verif|valid|__construct|(?:^|^\S+\s|(?:app(?:lication)?|kernel|core|engine|program)\s)(?:main|run|start|index)",
    re.I,
)
"""What files, classes and functions are called that look whether the program can run."""
_FOR_DEVELOPERS: Final = re.compile(r"(?:build|tools?|dev|devtools|ci|packaging|release)/", re.I)
"""Where the scripts stand that make the program, not those that run it."""
OF_LIBRARIES: Final = "vendor/composer/platform_check.php"
"""What the package manager writes, so that the program stops on a PHP which its libraries do not run on."""


class Bound(msgspec.Struct, frozen=True):
    """One bound of PHP's version that the program states."""

    operator: Operator
    version: str
    path: str
    line: int
    what: str
    outcome: Outcome
    aside: bool = False
    """Whether it stands in a library of the application's own, which may speak for itself alone."""
    in_any_case: bool = False
    """Whether a file's own code comes to it, or what that calls, whatever is configured or sent."""


class Statements(msgspec.Struct):
    """All that a program states."""

    bounds: list[Bound] = msgspec.field(default_factory=list)
    advised: list[Bound] = msgspec.field(default_factory=list)
    """Versions below which it runs, and advises a later one."""
    removed: list[Bound] = msgspec.field(default_factory=list)
    """Calls of functions that are gone from PHP, and exist nowhere else."""

    def lower(self) -> Bound | None:
        """The lowest version it runs on: of those that stop the program the highest, else of those that report it."""
        bounds = self._speaking(">=")
        strongest = [bound for bound in bounds if bound.outcome == "stops"] or bounds
        return max(
            strongest, key=lambda bound: (_numbers(bound), -bound.path.count("/"), bound.in_any_case), default=None
        )

    def upper(self) -> Bound | None:
        """The first version it does not run on."""
        bounds = [bound for bound in self._speaking("<") if bound.outcome == "stops"]
        return min(bounds, key=_numbers, default=None)

    def ends(self) -> list[Bound]:
        """Those at which the program ends in a file's own code, or in what that calls, each once."""
        return [bound for bound in dict.fromkeys(self.bounds) if bound.outcome == "stops" and bound.in_any_case]

    def _speaking(self, operator: Operator) -> list[Bound]:
        """Those with an operator; of libraries only where the rest of the program says nothing."""
        bounds = [bound for bound in self.bounds if bound.operator == operator]
        return [bound for bound in bounds if not bound.aside] or bounds


def _numbers(bound: Bound) -> tuple[int, ...]:
    return tuple(int(part) for part in bound.version.split("."))


def statements(
    base: str, files: Sequence[SourceFile], known: Mapping[str, FileFacts], *, of_libraries: bool
) -> Statements:
    """What the application's own files state.

    ``base``: the application's own directory; ``files``: those that count; ``known``: what is known of them;
    ``of_libraries``: what the package manager wrote for the libraries counts too.
    """
    stated = Statements()
    own = [file for file in files if file.part == "own" or (of_libraries and file.path.endswith(OF_LIBRARIES))]
    own.sort(key=lambda file: (file.path.count("/"), file.path))
    for file in own:
        facts = known.get(file.path, FileFacts())
        for gate in facts.gates:
            if _for_all(file, gate, base):
                _take(stated, file, gate)
        stated.removed += [Bound("<", "7.0", file.path, line, f"{name}()", "stops") for line, name in facts.removed]
    return stated


def _for_all(file: SourceFile, gate: Gate, base: str) -> bool:
    """Whether a gate speaks for the program: deep inside, in a function, most speak for what that function does."""
    inside = file.path.removeprefix(f"{base}/") if base else file.path
    if _FOR_DEVELOPERS.match(inside):
        return False
    named = _OF_REQUIREMENTS.search(f"{inside.rpartition('/')[2]} {gate.function}")
    return not gate.function or "/" not in inside or named is not None or of_an_installer(inside)


def _take(stated: Statements, file: SourceFile, gate: Gate) -> None:
    number = tuple(int(part) for part in gate.version.split(".")) if gate.version else ()
    if number and (5, 0) <= (*number, 0)[:2] < (10, 0):
        sure = gate.sure and not gate.function
        bound = Bound(gate.operator, gate.version, file.path, gate.line, gate.what, gate.outcome, _is_aside(file), sure)
        if gate.outcome in _STRENGTH:
            stated.bounds.append(bound)
        elif gate.outcome == "warns" and not bound.aside:
            stated.advised.append(bound)


def _is_aside(file: SourceFile) -> bool:
    return _OUT_OF_THE_WAY.search(file.path) is not None
