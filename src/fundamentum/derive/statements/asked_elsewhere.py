"""Calls of a program's own functions that ask for an extension: what is asked for stands where they are called.

``need('intl');``, ``if (!Environment::has('intl')) exit;``, ``class IntlRequirement { protected $name = 'intl'; }``
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from typing import Final, Literal, NamedTuple

from msgspec.structs import replace
from tree_sitter import Node

from fundamentum.derive.application.tree import Each, SourceFile
from fundamentum.derive.families import LIMITS
from fundamentum.derive.php_source.facts import Asker, Check, FileFacts, Gate, Name, Operator, Wish
from fundamentum.derive.php_source.nodes import (
    Patience,
    ancestors,
    arguments,
    around,
    called,
    field,
    line,
    names_around,
    parsed,
    string,
    text,
    walked,
)
from fundamentum.derive.statements.asking_calls import NEED_NOT
from fundamentum.derive.statements.consequences import consequences
from fundamentum.derive.statements.extension_lists import listed_at, meant, members, named_in
from fundamentum.derive.statements.limit_checks import number_of
from fundamentum.derive.statements.loops import APPLYING
from fundamentum.derive.statements.stated_at import check_at, comes_of, names_of
from fundamentum.derive.statements.switch_checks import SWITCHES, switch_wish
from fundamentum.derive.statements.versions_compared import kept_under

MAX_NAMES: Final = 40
"""Functions and classes of a program that ask for what they are given: a program has a few."""
MAX_SCOPE: Final = 80
"""Characters before a call that name its class."""
MAX_NAMES_AROUND: Final = 120
_CALLS: Final = ("function_call_expression", "member_call_expression", "scoped_call_expression")
_MADE: Final = "object_creation_expression"
_EVERYDAY: Final = frozenset(
    "get set load create make run add call find fetch render __call __get __callstatic".split()
)
"""Names of functions that as many others have: they tell only where a class is called after requirements."""
_OPEN: Final = re.compile(
    r"(?:required|mandatory)\w*\s*=\s*false|optional\w*\s*=\s*true|function\s+\w{0,40}(?:required|mandatory)\w{0,40}\s*"
    r"\([^)]{0,200}\)[^{]{0,80}\{\s*return\s+false|function\s+\w{0,40}optional\w{0,40}\s*\([^)]{0,200}\)[^{]{0,80}\{\s*return\s+true",
    re.I,
)
"""What a class that names an extension says of one that need not be there."""
_OF_REQUIREMENTS: Final = re.compile(r"req|check|need|ext|modul|depend|environ", re.I)
"""How classes are called of which one is made for each requirement."""
_OF_CLASSES: Final[Mapping[str, str]] = {
    "property": r"\$%s\s*=\s*(?P<value>['\"][\w .-]+['\"]|\[[^\]]{0,2000}\]|array\([^)]{0,2000}\))",
    "method": r"function\s+%s\s*\([^)]{0,200}\)[^{]{0,80}\{\s*return\s+(?P<value>['\"][\w .-]+['\"]|\[[^\]]{0,2000}\])",
    "constant": r"const\s+(?:\w+\s+)?%s\s*=\s*(?P<value>['\"][\w .-]+['\"]|\[[^\]]{0,2000}\])",
}
_VERSION: Final = re.compile(r"\d{1,2}\.\d{1,3}(?:\.\d{1,3})?")
_QUOTED: Final = re.compile(r"['\"]([\w .-]+)['\"]")


def asked_elsewhere(
    each: Each, files: Sequence[SourceFile], facts: Mapping[str, FileFacts]
) -> dict[str, list[Check | Gate | Wish]]:
    """File → what is asked for in it through functions and classes of the program's own."""
    own = [file for file in files if file.part == "own"]
    asking = [asker for file in own if file.path in facts for asker in facts[file.path].askers]
    asking = [asker for asker in asking if asker.name not in _EVERYDAY or _OF_REQUIREMENTS.search(_class_of(asker))]
    asking = asking[:MAX_NAMES]
    return {file.path: told for file, told in each(_in_file, own, tuple(asking)) if told} if asking else {}


def _class_of(asker: Asker) -> str:
    """The class of a method, in lower case; empty for a function."""
    return asker.around.partition(" ")[0]


def _named_there(asker: Asker, data: bytes) -> bool:
    """Whether the class of a method is named in a file."""
    of_class = _class_of(asker).encode("utf-8", "replace")
    return bool(of_class) and re.search(rb"\b%s\b" % re.escape(of_class), data, re.I) is not None


class _Words(NamedTuple):
    """Where one is spoken of in code in lower case."""

    after: re.Pattern[bytes]
    """The name, and what stands behind it.  It begins with the name itself, so that it is found fast."""
    before: re.Pattern[bytes]
    """What stands before it."""

    def stand_in(self, lowered: bytes) -> bool:
        """Whether it is spoken of there."""
        places = (match.start() for match in self.after.finditer(lowered))
        return any(self.before.search(lowered[max(at - MAX_SCOPE, 0) : at]) for at in places)


@cache
def _words(asker: Asker) -> _Words:
    """Of one that is given nothing, its calls, with its class."""
    name = re.escape(asker.name.lower().encode("utf-8", "replace"))
    before = rb"(?<!\w)\Z"
    if asker.kind == "call" and asker.asks == "php":
        after = name + rb"\s*\((?:[^;]{0,200}['\"]\d|[^;)]{0,80}php)"
    elif asker.kind == "answer":
        after = name + rb"\s*\(\s*\)"
        of_class = re.escape(_class_of(asker).encode("utf-8", "replace"))
        scopes = (of_class, rb"(?:self|static)\s*::", rb"[\w)]\s*->")
        before = rb"(?:%s\s*::|%s|%s)\s*\Z" % scopes if of_class else before
    else:
        after = name + rb"\b"
    return _Words(re.compile(after), re.compile(before))


def _in_file(data: bytes, asking: Sequence[Asker]) -> list[Check | Gate | Wish]:
    lowered = data.lower()
    spoken_of = [asker for asker in asking if _words(asker).stand_in(lowered)]
    if not spoken_of:
        return []
    Patience.begin()
    try:
        tree = parsed(data)
        return [check for asker in spoken_of for check in _READERS.get(asker.kind, _classes)(tree, data, asker)]
    except RecursionError:
        return []


def _calls(tree: Node, data: bytes, asker: Asker) -> Iterator[Check | Gate | Wish]:
    """What one function is called with, or one class made with, and what comes of that."""
    if asker.name in _EVERYDAY and not _named_there(asker, data):
        return
    name = re.escape(asker.name.encode("utf-8", "replace"))
    by_name = rb"|['\"](?:\w+::)?%s['\"]" % name if asker.asks == "extension" else b""
    word = re.compile(rb"\b%s\s*\(%s" % (name, by_name), re.I)
    for call in around(tree, data, word, (_MADE,) if asker.made else _CALLS):
        named = text(call.named_children[0]).rpartition("\\")[2].lower() if asker.made else called(call)
        given = arguments(call)[asker.position :]
        if named in APPLYING:  # array_map('need', $list)
            lists = (one for one in arguments(call) if asker.name not in text(one).lower())
            yield from (_stated(check, call, asker) for one in lists for check in members(one, tree, True))
        elif named != asker.name:
            continue
        elif asker.asks == "setting":
            yield from _wishes(given, asker)
        elif asker.asks == "switch":
            if given and (directive := string(given[0])) in SWITCHES:
                yield from switch_wish(directive, call, asker.answers == "present", f"{text(call)[:60]} is asked")
        elif asker.asks == "php":
            yield from (_gate(version, one, call, asker) for one in given[:1] if (version := _version(one)))
        else:
            yield from (_stated(check, call, asker) for check in named_in(given, asker.asks, tree, listed=asker.listed))


def _version(given: Node) -> str | Name | None:
    """The version that is given, or what it is kept under: ``config('installer.php')``, ``MINIMUM_PHP``."""
    plain = string(given)
    if plain is not None:
        return plain if _VERSION.fullmatch(plain) else None
    keys = [string(one) or "" for one in arguments(given)[:1]]
    named = Name("key", keys[0].rpartition(".")[2]) if keys and keys[0] else kept_under(given)
    return named if named is not None and "php" in named.name.lower() else None


def _wishes(given: Sequence[Node], asker: Asker) -> Iterator[Wish]:
    """The limit that a call names, with the least that it must be."""
    directive = string(given[0]) if len(given) > 1 else None
    if directive in LIMITS and (least := number_of(text(given[1]), directive)):
        how = f"{asker.name}('{directive}', ...)"
        yield Wish("setting", directive, f">= {least}", line(given[0]), how, asker.outcome not in ("", "warns"))


def _gate(version: str | Name, place: Node, call: Node, asker: Asker) -> Gate:
    """What a call says of PHP's version."""
    where = f"requirements {names_of(call)}" if names_around(call)[1] else ""
    operator, outcome = asker.operator, asker.outcome
    if not outcome:
        holds, outcome = next(consequences(call), (False, ""))
        # The program goes on where the answer is otherwise.
        operator = operator if (asker.answers == "present") is not holds else _OPPOSITE[operator]
    return Gate(operator, version, line(place), f"{asker.name}({text(place)[:40]})", outcome, where)


def _stated(named: Check, call: Node, asker: Asker) -> Check:
    """What a call says of an extension that is named in it."""
    told = asker.outcome or comes_of(call, asker.answers == "missing", extension=True)
    if not told and asker.made and _OF_REQUIREMENTS.search(asker.name):
        told = "reports"
    if told and (named.outcome == "listed-recommended" or NEED_NOT.search(text(call).partition("(")[2])):
        told = "warns"
    written = re.search(re.escape(asker.name), text(call)[:MAX_SCOPE], re.I)
    name = written[0] if written else asker.name
    check = check_at(call, named.extension, told, f"{name}('{named.extension}')")
    where = check.around
    if asker.outcome or asker.made:
        of_all = _of_all(call, names_around(call)[1], asker)
        where = f"{where[:MAX_NAMES_AROUND]} {asker.around}{' requirements' if of_all else ''}"
    return replace(check, line=named.line, around=where)


def _answers(tree: Node, data: bytes, asker: Asker) -> Iterator[Check | Gate]:
    """What comes of an answer: where a function is called that is given nothing, or at the name it is kept under."""
    for place in (_kept if asker.kind == "kept" else _asked)(tree, data, asker):
        for name in asker.names:
            gate = _gate(name, place, place, asker) if asker.asks == "php" else None
            stated = gate or _stated(listed_at(name, True, place), place, asker)
            if stated.outcome not in ("", "asked"):
                yield replace(stated, what=text(place)[:60])


def _asked(tree: Node, data: bytes, asker: Asker) -> Iterator[Node]:
    """The calls of a function, or of a method where its class is named."""
    of_class = _class_of(asker)
    word = re.compile(rb"\b%s\s*\(\s*\)" % re.escape(asker.name.encode("utf-8", "replace")), re.I)
    for call in around(tree, data, word, _CALLS):
        scope, made_of = text(field(call, "scope")).rpartition("\\")[2].lower(), text(field(call, "object"))
        if scope in ("self", "static") or made_of == "$this":
            scope = names_around(call)[0]
        elif made_of and _named_there(asker, data):
            scope = of_class
        if called(call) == asker.name and scope == of_class and (of_class or call.type == _CALLS[0]):
            yield call


def _kept(tree: Node, data: bytes, asker: Asker) -> Iterator[Node]:
    """Where a constant or a static property stands."""
    word = re.compile(re.escape(asker.name.encode("utf-8", "replace")), re.I)
    kinds = ("scoped_property_access_expression",) if "::" in asker.name else ("name",)
    yield from (node for node in around(tree, data, word, kinds) if text(node).lower() == asker.name.lower())


def _of_all(call: Node, function: str, asker: Asker) -> bool:
    """Whether a call tells of what the whole program requires: it stands where that begins, under no condition.

    What a function asks for a class may be to make it.
    """
    if asker.asks != "extension" or (function and not _BEGINNING.search(function)):
        return False
    return not any(above.type in _CONDITIONAL for above, _ in ancestors(call))


_BEGINNING: Final = re.compile(r"boot|init|main|run|start|setup|__construct|handle|index", re.I)
_CONDITIONAL: Final = frozenset({"if_statement", "case_statement", "match_conditional_expression"})


_OPPOSITE: Final[Mapping[Operator, Operator]] = {"<": ">=", "<=": ">", ">": "<=", ">=": "<"}
_READERS: Final = {"call": _calls, "answer": _answers, "kept": _answers}


def _classes(tree: Node, data: bytes, asker: Asker) -> Iterator[Check]:
    """The classes that name an extension where another one asks for what such a class names."""
    pattern = re.compile(_OF_CLASSES[asker.kind] % re.escape(asker.name), re.I)
    if not pattern.search(data.decode("utf-8", "replace")):
        return
    for node in walked(tree):
        written = text(node) if node.type == "class_declaration" else ""
        if not asker.outcome and not _OF_REQUIREMENTS.search(f"{asker.around} {written[:80]}"):
            continue
        own = text(field(node, "name")).lower() == _class_of(asker)
        match = pattern.search(written) if not own else None
        for name in _QUOTED.findall(match["value"]) if match else ():
            if extension := meant(name, asker.asks):
                weak = asker.outcome == "warns" or _OPEN.search(written)
                told: Literal["warns", "reports"] = "warns" if weak else "reports"
                where = f"requirements {asker.around} {text(node.child_by_field_name('name'))}"
                yield Check(extension, told, line(node), f"a class that names {extension}", (), where[:200])
