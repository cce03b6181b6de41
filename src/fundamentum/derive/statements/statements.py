"""What the program itself says about the versions of PHP that it runs on, put together from all of its files."""

import re
from collections import defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from functools import cache
from typing import Final

import msgspec
from msgspec.structs import replace

from fundamentum.derive.application.tree import Each, SourceFile, content_of
from fundamentum.derive.php_source.facts import FileFacts, Gate, Name, Operator, Outcome
from fundamentum.derive.statements.kept_beside import values_beside
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
MAX_PAGE: Final = 20_000
"""Bytes of a page that tells why the program does not run."""
_PAGE_ENDS: Final = re.compile(rb"\b(?:exit|die)\b\s*[(;]", re.I)
_FUNCTION: Final = re.compile(rb"\b(?:function|fn)\b\s*+&?\s*+\w*+\s*+\(", re.I)
_VERSION: Final = re.compile(r"\d{1,2}\.\d{1,3}(?:\.\d{1,3})?")
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
    aside: bool = False
    """Whether it stands in a library of the application's own, which may speak for itself alone."""


class Statements(msgspec.Struct):
    """All that a program states."""

    bounds: list[Bound] = msgspec.field(default_factory=list)
    removed: list[Bound] = msgspec.field(default_factory=list)
    """Calls of functions that are gone from PHP, and exist nowhere else."""

    def lower(self) -> Bound | None:
        """The lowest version it runs on: of those that stop the program the highest, else of those that report it."""
        bounds = self._speaking(">=", ">")
        strongest = [bound for bound in bounds if bound.outcome == "stops"] or bounds
        return max(strongest, key=lambda bound: (_numbers(bound), -bound.path.count("/")), default=None)

    def upper(self) -> Bound | None:
        """The first version it does not run on."""
        bounds = [bound for bound in self._speaking("<", "<=") if bound.outcome == "stops"]
        return min(bounds, key=_numbers, default=None)

    def _speaking(self, *operators: Operator) -> list[Bound]:
        """Those with one of the operators; of libraries only where the rest of the program says nothing."""
        bounds = [bound for bound in self.bounds if bound.operator in operators]
        return [bound for bound in bounds if not bound.aside] or bounds


def _numbers(bound: Bound) -> tuple[int, ...]:
    return tuple(int(part) for part in bound.version.split("."))


def statements(
    root: str,
    base: str,
    files: Sequence[SourceFile],
    known: Mapping[str, FileFacts],
    each: Each,
    *,
    of_libraries: bool,
) -> Statements:
    """What the application's own files state.

    ``base``: the application's own directory; ``files``: those that count; ``known``: what is known of them;
    ``of_libraries``: what the package manager wrote for the libraries counts too.
    """
    found = Statements()
    own = [file for file in files if file.part == "own" or (of_libraries and file.path.endswith(_OF_LIBRARIES))]
    own.sort(key=lambda file: (file.path.count("/"), file.path))
    open_gates: list[tuple[SourceFile, Gate]] = []
    for file in own:
        facts = known.get(file.path, FileFacts())
        for gate in facts.gates:
            if gate.includes:
                gate = replace(gate, outcome="stops" if _ends(root, own, file, gate.includes) else "")
            if not _for_all(file, gate, base):
                continue
            if isinstance(gate.version, Name):
                open_gates.append((file, gate))
            else:
                _take(found, file, gate, gate.version)
        found.removed += [Bound("<", "7.0", file.path, line, f"{name}()", "stops") for line, name in facts.removed]
    _resolved(root, own, found, open_gates, each)
    return found


def _ends(root: str, own: Sequence[SourceFile], file: SourceFile, name: str) -> bool:
    """Whether an included file, the nearest of that name, is a page that ends the program: it has no function."""
    beside = file.path.rpartition("/")[0]
    named = [one for one in own if one.path.rpartition("/")[2] == name and one.size < MAX_PAGE]
    nearest = min(named, key=lambda one: (one.path.rpartition("/")[0] != beside, one.path), default=None)
    code = content_of(root, nearest) if nearest is not None else b""
    return _PAGE_ENDS.search(code) is not None and _FUNCTION.search(code) is None


def _for_all(file: SourceFile, gate: Gate, base: str) -> bool:
    """Whether a gate speaks for the program: deep inside, in a function, most speak for what that function does."""
    inside = file.path.removeprefix(f"{base}/") if base else file.path
    if _FOR_DEVELOPERS.match(inside):
        return False
    named = _OF_REQUIREMENTS.search(f"{inside.rpartition('/')[2]} {gate.function}")
    return not gate.function or "/" not in inside or named is not None or of_an_installer(inside)


def _take(found: Statements, file: SourceFile, gate: Gate, version: str) -> None:
    text = _dotted(version) if version.isdigit() and len(version) > 2 else version
    number = tuple(int(part) for part in text.split(".")) if text else ()
    if gate.outcome not in _STRENGTH or not number or not (5, 0) <= (*number, 0)[:2] < (10, 0):
        return
    operator, text = _whole(gate.operator, text)
    if operator:
        found.bounds.append(Bound(operator, text, file.path, gate.line, gate.what, gate.outcome, _is_aside(file)))


def _is_aside(file: SourceFile) -> bool:
    return _OUT_OF_THE_WAY.search(file.path) is not None


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
    root: str, own: Sequence[SourceFile], found: Statements, left: list[tuple[SourceFile, Gate]], each: Each
) -> None:
    """Gates of which the version is kept under a name: in the same file, else in any other."""
    names = {gate.version for _, gate in left if isinstance(gate.version, Name)}
    values = _values(each, own, names)
    for file, gate in left:
        if not isinstance(gate.version, Name):
            continue
        known = values.get(gate.version, {})
        version = known.get(file.path, "")
        if not version and (gate.version.kind != "variable" or _of_other_files(root, file, gate.version, known)):
            version = next(_first(known), "")
        if version := version or _beside(root, file, gate.version):
            _take(found, file, gate, version)


def _of_other_files(root: str, file: SourceFile, variable: Name, known: Mapping[str, str]) -> bool:
    """Whether a variable may have come from another file, by an include: one that is not given versions in its own."""
    given = re.compile(rb"\$%s\s*=(?!=)[^;]{0,200}['\"]\d\.\d" % re.escape(variable.name.encode()))
    return len(set(known.values())) == 1 and not given.search(content_of(root, file))


def _values(
    each: Each, own: Sequence[SourceFile], names: Collection[Name], *, again: bool = True
) -> dict[Name, dict[str, str]]:
    """Name → file → the version that is given to it there, or to what is given to it.

    ``$least = MINIMUM_PHP;``, ``$least = config('installer.php');``
    """
    values: dict[Name, dict[str, str]] = {}
    others: dict[Name, set[Name]] = defaultdict(set)
    for file, given in each(_given_in, own, tuple(names)) if names else ():
        for name, value in given:
            if isinstance(value, Name):
                others[value].add(name)
            else:
                values.setdefault(name, {})[file.path] = value
    of_others = _values(each, own, others, again=False) if again and others else {}
    for other, known in of_others.items():
        for name in others[other]:
            values[name] = known | values.get(name, {})
    return values


def _given_in(data: bytes, names: Sequence[Name]) -> list[tuple[Name, str | Name]]:
    """What is given to each of the names in one file: a version, or what has another name."""
    found: list[tuple[Name, str | Name]] = []
    for name in names:
        if name.name.encode() not in data or not (match := _definition(name).search(data)):
            continue
        if match["version"]:
            found.append((name, match["version"].decode().replace("_", "")))
        elif match["constant"]:
            found.append((name, Name("constant", match["constant"].decode())))
        else:
            found.append((name, Name("key", match["key"].decode())))
    return found


def _beside(root: str, file: SourceFile, name: Name) -> str:
    """The version that stands under a key in a file of JSON which the source file names."""
    told = (str(value) for _, value in values_beside(root, file.path, content_of(root, file), name.name))
    return next((value for value in told if name.kind != "constant" and _VERSION.fullmatch(value)), "")


def _first(known: dict[str, str]) -> Iterator[str]:
    yield from (known[path] for path in sorted(known, key=lambda path: (path.count("/"), path)))


@cache
def _definition(name: Name) -> re.Pattern[bytes]:
    """Where something of that name is given a version."""
    word = re.escape(name.name.encode())
    version = rb"['\"]?(?P<version>[0-9][0-9._]{0,10})(?=['\"\s;,)\]])"
    constant = rb"(?:\w+::)?(?P<constant>[A-Z][A-Z0-9_]{2,40})\s*[;,)\]]"
    key = rb"[\w:>$-]{1,40}\(\s*['\"](?:[\w-]{1,40}\.){0,4}(?P<key>\w{1,40})['\"]"
    shapes = {
        "constant": rb"(?:define\s*\(\s*['\"]%s['\"]\s*,|const\s+(?:[\w|?]+\s+)?%s\s*=)\s*" % (word, word),
        "variable": rb"\$%s\s*=\s*" % word,
        "key": rb"['\"]%s['\"]\s*(?:=>|\]\s*=)\s*" % word,
        "function": rb"(?i:function\s+%s)\s*\(\s*\)[^{};]{0,40}\{\s*return\s+" % word,
    }
    return re.compile(shapes[name.kind] + rb"(?:" + b"|".join((version, constant, key)) + rb")")
