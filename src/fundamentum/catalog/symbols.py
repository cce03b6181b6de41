"""Which extension provides a function, class, constant or directive, and in which branches.

Harvested from real builds by ``tools/harvest_symbols.py``; what no build at hand has stands in ``symbols.toml``.
"""

import tomllib
from collections.abc import Iterator, Mapping
from functools import cache
from pathlib import Path
from typing import Final, Literal

import msgspec

Kind = Literal["function", "class", "constant", "directive", "scheme", "filter"]

_HERE: Final = Path(__file__).parent
_KINDS: Final[dict[str, Kind]] = {
    "functions": "function",
    "classes": "class",
    "constants": "constant",
    "directives": "directive",
    "schemes": "scheme",
    "filters": "filter",
}
EVERYWHERE: Final = frozenset(
    {"core", "standard", "spl", "date", "pcre", "reflection", "hash", "random", "json", "uri"}
)
"""Extensions that every current PHP has, so that nobody needs to be told; json and hash are told for older branches."""


APART_ONCE: Final = frozenset({"json", "hash"})
"""Those of them that older branches may lack."""


class Symbol(msgspec.Struct, frozen=True, gc=False):
    """One thing that an extension provides."""

    kind: Kind
    name: str
    """Functions and classes in lower case."""
    extension: str
    since: str = ""
    """The first branch that has it; empty: every branch looked at."""
    gone: str = ""
    """The first branch that no longer has it."""


class _Everywhere(msgspec.Struct):
    functions: str
    classes: str


class _Document(msgspec.Struct):
    everywhere: _Everywhere
    own: list[str]
    extensions: dict[str, dict[str, dict[str, str]]]


class _Unharvested(msgspec.Struct):
    functions: str = ""
    classes: str = ""
    gone: str = ""
    windows: bool = False


@cache
def _document() -> _Document:
    return msgspec.json.decode((_HERE / "data/symbols.json").read_bytes(), type=_Document)


@cache
def _unharvested() -> Mapping[str, _Unharvested]:
    return msgspec.convert(tomllib.loads((_HERE / "symbols.toml").read_text("utf-8")), dict[str, _Unharvested])


@cache
def symbols() -> Mapping[tuple[Kind, str], tuple[Symbol, ...]]:
    """Kind and name → who provides it; several extensions may."""
    by_name: dict[tuple[Kind, str], tuple[Symbol, ...]] = {}
    for symbol in _all():
        key = (symbol.kind, symbol.name)
        by_name[key] = (*by_name[key], symbol) if key in by_name else (symbol,)
    return by_name


def _all() -> Iterator[Symbol]:
    for extension, kinds in _document().extensions.items():
        for kind, spans in kinds.items():
            for span, names in spans.items():
                since, _, gone = span.partition("..")
                for name in names.split():
                    yield Symbol(_KINDS[kind], name, extension, since, gone)
    for extension, entry in _unharvested().items():
        for name in entry.functions.split():
            yield Symbol("function", name, extension, "", entry.gone)
        for name in entry.classes.split():
            yield Symbol("class", name, extension, "", entry.gone)


def providers(kind: Kind, name: str) -> tuple[Symbol, ...]:
    """Who provides it: nothing, one extension, or several of which any one will do."""
    return symbols().get((kind, name.lower() if kind in ("function", "class") else name), ())


@cache
def _always_there() -> frozenset[tuple[Kind, str]]:
    functions, classes = _document().everywhere.functions.split(), _document().everywhere.classes.split()
    return frozenset([("function", name) for name in functions] + [("class", name) for name in classes])


def span_in_php(kind: Kind, name: str) -> tuple[str, str] | None:
    """In which branches PHP itself has something, without any extension that may be missing.

    The first branch that has it (empty: every one looked at), and the first that no longer has it; None: it is
    nothing of PHP's own.
    """
    if (kind, name.lower()) in _always_there():
        return "", ""
    suppliers = providers(kind, name)
    if not suppliers or any(symbol.extension not in EVERYWHERE for symbol in suppliers):
        return None
    return suppliers[0].since, suppliers[0].gone


@cache
def known_extensions() -> frozenset[str]:
    """Every extension of which a symbol is known."""
    return frozenset(_document().extensions) | frozenset(_unharvested())


@cache
def own_extensions() -> frozenset[str]:
    """The extensions that come from PHP's own source."""
    return frozenset(_document().own)


def follows_php(symbol: Symbol) -> bool:
    """Whether a symbol came, or went, with a branch of PHP itself.

    Constants of extensions follow the library they stand for.  What went with 7.0 has questions of its own.
    """
    if symbol.extension in EVERYWHERE or symbol.extension in own_extensions():
        return symbol.extension in EVERYWHERE or symbol.kind != "constant"
    entry = _unharvested().get(symbol.extension)
    return entry is not None and entry.gone not in ("", "7.0")


def only_on_windows(extension: str) -> bool:
    """Whether the extension exists for Windows only."""
    return extension in _unharvested() and _unharvested()[extension].windows
