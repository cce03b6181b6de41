"""What the program itself says about the versions of PHP that it runs on, put together from all of its files."""

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Final

import msgspec

from fundamentum.derive.facts import FileFacts, Gate, Name, Operator, Outcome
from fundamentum.derive.tree import SourceFile, content_of
from fundamentum.untrusted.budget import Budget, Spent

_STRENGTH: Final[tuple[Outcome, ...]] = ("reports", "stops")
_OUT_OF_THE_WAY: Final = re.compile(r"(?:^|/)(?:polyfills?|compat|lib|libs|libraries|inc/lib)/", re.I)


_OF_LIBRARIES: Final = "vendor/composer/platform_check.php"
"""What the package manager writes, so that the program stops on a PHP which its libraries do not run on."""


class Bound(msgspec.Struct, frozen=True):
    """One bound of PHP's version that the program states."""

    operator: Operator
    version: str
    path: str
    line: int
    what: str
    outcome: Outcome


class Statements(msgspec.Struct):
    """All that a program states."""

    bounds: list[Bound] = msgspec.field(default_factory=list)
    removed: list[Bound] = msgspec.field(default_factory=list)
    """Calls of functions that are gone from PHP, and exist nowhere else."""

    def lower(self) -> Bound | None:
        """The lowest version it runs on: of those that stop the program the highest, else of those that report it."""
        found = [bound for bound in self.bounds if bound.operator in (">=", ">")]
        strongest = [bound for bound in found if bound.outcome == "stops"] or found
        return max(strongest, key=lambda bound: (_numbers(bound), -bound.path.count("/")), default=None)

    def upper(self) -> Bound | None:
        """The first version it does not run on."""
        found = [bound for bound in self.bounds if bound.operator in ("<", "<=") and bound.outcome == "stops"]
        return min(found, key=_numbers, default=None)


def _numbers(bound: Bound) -> tuple[int, ...]:
    return tuple(int(part) for part in bound.version.split("."))


def statements(root: str, files: Sequence[SourceFile], known: Mapping[str, FileFacts], budget: Budget) -> Statements:
    """What the application's own files state.  ``files``: those that count; ``known``: what is known of them."""
    found = Statements()
    own = [
        file
        for file in files
        if (file.part == "own" and not _OUT_OF_THE_WAY.search(file.path)) or file.path.endswith(_OF_LIBRARIES)
    ]
    own.sort(key=lambda file: (file.path.count("/"), file.path))
    open_gates: list[tuple[SourceFile, Gate]] = []
    for file in own:
        facts = known.get(file.path, FileFacts())
        for gate in facts.gates:
            if isinstance(gate.version, Name):
                open_gates.append((file, gate))
            else:
                _take(found, file, gate, gate.version)
        found.removed += [Bound("<", "7.0", file.path, line, f"{name}()", "stops") for line, name in facts.removed]
    _resolved(root, own, found, open_gates, budget)
    return found


def _take(found: Statements, file: SourceFile, gate: Gate, version: str) -> None:
    text = _dotted(version) if gate.as_id or (version.isdigit() and len(version) > 2) else version
    number = tuple(int(part) for part in text.split(".")) if text else ()
    if gate.outcome not in _STRENGTH or not number or not (5, 0) <= (*number, 0)[:2] < (10, 0):
        return
    operator, text = _whole(gate.operator, text)
    if operator:
        found.bounds.append(Bound(operator, text, file.path, gate.line, gate.what, gate.outcome))


def _whole(operator: Operator, version: str) -> tuple[Operator | None, str]:
    """``> 8.0`` and ``<= 8.3`` in the terms of the first version that is accepted, or is not."""
    if operator in (">=", "<"):
        return operator, version
    if operator == ">" and version.count(".") == 2:
        *head, last = version.split(".")
        return ">=", ".".join((*head, str(int(last) + 1)))
    return (">=", version) if operator == ">" else (None, version)


def _dotted(number: str) -> str:
    """``8.1.0`` of ``80100``."""
    if not number.isdigit() or not 4 < len(number) < 7:
        return ""
    value = int(number)
    return f"{value // 10000}.{value // 100 % 100}.{value % 100}".removesuffix(".0")


def _resolved(
    root: str, own: Sequence[SourceFile], found: Statements, left: list[tuple[SourceFile, Gate]], budget: Budget
) -> None:
    """Gates of which the version is kept under a name: in the same file, else in any other."""
    values: dict[Name, dict[str, str]] = {}
    names = {gate.version for _, gate in left if isinstance(gate.version, Name)}
    patterns = {name: _definition(name) for name in names}
    for file in own if names else ():
        try:
            budget.tick()
        except Spent:
            break
        data = content_of(root, file)
        for name, pattern in patterns.items():
            if name.name.encode() in data and (match := pattern.search(data)):
                values.setdefault(name, {})[file.path] = match[1].decode().replace("_", "")
    for file, gate in left:
        known = values.get(gate.version, {}) if isinstance(gate.version, Name) else {}
        local = gate.version.kind == "variable" if isinstance(gate.version, Name) else False
        version = known.get(file.path) or ("" if local and len(set(known.values())) > 1 else next(_first(known), ""))
        if version:
            _take(found, file, gate, version)


def _first(known: dict[str, str]) -> Iterator[str]:
    yield from (known[path] for path in sorted(known, key=lambda path: (path.count("/"), path)))


def _definition(name: Name) -> re.Pattern[bytes]:
    """Where something of that name is given a version."""
    word = re.escape(name.name.encode())
    value = rb"['\"]?([0-9][0-9._]{0,10})"
    shapes = {
        "constant": rb"(?:define\s*\(\s*['\"]%s['\"]\s*,|const\s+(?:[\w|?]+\s+)?%s\s*=)\s*" % (word, word),
        "variable": rb"\$%s\s*=\s*" % word,
        "key": rb"['\"]%s['\"]\s*(?:=>|\]\s*=)\s*" % word,
    }
    return re.compile(shapes[name.kind] + value + rb"(?=['\"\s;,)\]])")
