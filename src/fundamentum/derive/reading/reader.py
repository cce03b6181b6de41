"""Everything that one source file tells: uses, checks, definitions, wishes, an encoded file's loader."""

import itertools
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from typing import Final

import msgspec
from tree_sitter import Node

from fundamentum.catalog.symbols import APART_ONCE, EVERYWHERE, follows_php, known_extensions, providers
from fundamentum.derive.php_source.bare_code import all_words, code_of
from fundamentum.derive.php_source.encoded import loader_of
from fundamentum.derive.php_source.facts import Check, FileFacts, Gate, Syntax, Use, Wish
from fundamentum.derive.php_source.nodes import ancestors, arguments, line, names_around, string, text
from fundamentum.derive.php_source.quoted import TAKING
from fundamentum.derive.php_source.source import Reference, Source, provided, reference
from fundamentum.derive.php_source.syntax import RULES, found_in
from fundamentum.derive.reading.connection_strings import among_extensions, connection, given_to_connection, of_stream
from fundamentum.derive.reading.spots import CALLS_METHOD, Spots, places_of
from fundamentum.derive.reading.words import brings, interesting, telling_names, words_in
from fundamentum.derive.statements import removed_functions
from fundamentum.derive.statements.asking_calls import named_in_calls
from fundamentum.derive.statements.chained_calls import chained_calls
from fundamentum.derive.statements.configured_directories import configured_directories
from fundamentum.derive.statements.extension_lists import named_lists
from fundamentum.derive.statements.guards import VERSION, Guards
from fundamentum.derive.statements.host_functions import apart
from fundamentum.derive.statements.limit_tables import limits_in
from fundamentum.derive.statements.uploaded_sizes import sizes_taken
from fundamentum.derive.statements.version_gates import gates
from fundamentum.derive.statements.wishes import (
    CALLS,
    directories_in,
    lines_for_shell,
    modules_in,
    programs_in,
    wishes_of,
)
from fundamentum.derive.statements.written_files import written_files

MAX_STATED: Final = 1000
"""Statements of one kind in one file: those of an installer are a few dozen."""
MAX_EXAMINED: Final = 40
"""Uses of one extension in one file that are looked at closely; more of them would tell nothing new."""
MAX_VARIABLES: Final = 300
"""Variables of a file that hold the name of what is called or made."""
MAX_PLAIN: Final = 6
"""Uses in one class, or outside classes, that nothing protects, after which no more are looked at."""
SESSIONS: Final = "session.save_handler"
"""A directive of which the value is an extension that keeps sessions."""
_ALIAS: Final = re.compile(rb"\bclass_alias\s*\([^,;]{1,200},\s*['\"]\\{0,2}([\w\\]{1,200})['\"]")
"""A class of the program's own under the name of another: ``class_alias(Formatter::class, 'IntlDateFormatter')``"""
HEAD_OF_FILE: Final = 2_000
"""Bytes in which comments speak of the whole file."""
_UNFINISHED: Final = re.compile(
    rb"^[ \t]*(?:<\?php[ \t]*)?(?:/\*|\*|//|#)[^\n]{0,200}(?:\bexperimental\b|not (?:yet )?(?:ready )?for production)",
    re.I | re.M,
)


def read_source(data: bytes, words: frozenset[bytes] | None = None, constructs: Sequence[int] = ()) -> FileFacts:
    """The facts of a file.

    ``words``: the interesting ones that it holds, if they are known already; ``constructs``: rules of syntax, by
    number, that may apply.
    """
    loader = loader_of(data)
    if loader is not None:
        return FileFacts(loader=loader)
    if words is None:
        code, _ = code_of(data)
        there = all_words(code)
        words = words_in(code, there, interesting() | TAKING) | telling_names(there)
    return _Reader(data, words).facts(constructs)


class _Reader:
    def __init__(self, data: bytes, words: frozenset[bytes]) -> None:
        self.data, self.words = data, words
        self.lowered = data.lower()
        self.spots = Spots(data, self.lowered, words)
        self.source = Source(data)
        self.guards = Guards(self.source, self.lowered, words)
        self.functions: list[str] = []
        self.classes: list[str] = []
        self.connects = False
        """Whether it opens a connection to a database of which a name says the kind."""
        self.constants: list[str] = []
        self.examined: Counter[str] = Counter()
        self.plain: Counter[tuple[str, str]] = Counter()
        """Extension and class → uses there that nothing protects."""
        self.syntax: dict[tuple[str, str, str], Syntax] = {}

    def facts(self, constructs: Sequence[int]) -> FileFacts:
        """All that the file tells."""
        root = self.source.root
        in_chains = list(itertools.islice(chained_calls(root, self.data), MAX_STATED))
        told, of_hosts = apart(
            (
                *self.guards.checks(),
                *named_lists(root, self.spots.extensions),
                *named_in_calls(root, self.data, self.words),
                *(told for told in in_chains if isinstance(told, Check)),
            )
        )
        return FileFacts(
            uses=(*self._words(), *self._called_by_name(), *self._strings()),
            checks=told,
            check_names=tuple(
                (name, extension) for name, those in self.guards.names.items() for extension in sorted(those)
            ),
            functions=tuple(self.functions),
            classes=(*self.classes, *(name.decode("latin-1").lower() for name in _ALIAS.findall(self.data))),
            constants=tuple(self.constants),
            syntax=(*self.syntax.values(), *found_in(self.source, [RULES[number] for number in constructs])),
            wishes=(
                *self.wishes,
                *of_hosts,
                *programs_in(self.source),
                *lines_for_shell(self.source),
                *directories_in(self.data),
                *written_files(self.source),
                *configured_directories(self.source),
                *limits_in(self.data),
                *modules_in(self.data),
                *sizes_taken(root, self.data),
            ),
            broken=self.source.broken,
            versioned=tuple(self._versioned()),
            gates=(
                *itertools.islice(gates(root, self.data, self.words), MAX_STATED),
                *(told for told in in_chains if isinstance(told, Gate)),
            ),
            removed=tuple(removed_functions.calls(root, self.data)),
            unfinished=_UNFINISHED.search(self.data, 0, HEAD_OF_FILE) is not None,
        )

    def _words(self) -> Iterator[Use]:
        self.wishes: list[Wish] = []
        aliases = {
            short.encode("latin-1")
            for (kind, short), full in self.source.names.imports.items()
            if brings(kind, short, full)
        }
        places = {place for alias in aliases for place in places_of(self.lowered, alias)}
        for start, end in sorted(places.union(self.spots.words)) if places else self.spots.words:
            node = self.source.at(start, end)
            if node is None:
                continue
            referred = reference(self.source, node)
            if referred is not None:
                yield from self._referred(referred, node)

    def _referred(self, referred: Reference, node: Node) -> Iterator[Use]:
        if referred.defines:
            (self.functions if referred.kind == "function" else self.classes).append(referred.name)
            return
        if referred.kind == "function" and referred.name in CALLS and referred.node.type == "function_call_expression":
            self.wishes += wishes_of(self.source, referred.node, referred.name)
            if referred.name in ("ini_get", "ini_set"):
                first, *others = [*arguments(referred.node), None]
                if string(first) == SESSIONS and others[0] is not None:
                    handler = string(others[0]) or ""
                    if handler in known_extensions():
                        yield from self._in_string(
                            others[0].start_byte + 1, handler, "scheme", f"{SESSIONS}: {handler}"
                        )
                # A directive of an absent extension is not there, and nothing fails for that.
                yield from self._use("directive", string(first) or "", referred.node, weak=True)
        if referred.kind == "class" and referred.name == "pdo" and referred.node.type == "object_creation_expression":
            self.connects = True
        shown = self.source.names.spelled.get(referred.name, "") if text(node).lower() != referred.name else ""
        yield from self._use(referred.kind, referred.name, node, weak=referred.weak, own=referred.own, shown=shown)

    def _use(
        self, kind: str, name: str, node: Node, *, weak: bool = False, own: str = "", shown: str = ""
    ) -> Iterator[Use]:
        symbols = providers(kind, name)  # type: ignore[arg-type]
        if not symbols:
            return
        extensions = tuple(dict.fromkeys(symbol.extension for symbol in symbols))
        if len(symbols) == 1 and (symbols[0].since or symbols[0].gone) and not weak and follows_php(symbols[0]):
            self._bound(symbols[0].since, symbols[0].gone, _shown(kind, name), node)
        if all(extension in EVERYWHERE for extension in extensions) and APART_ONCE.isdisjoint(extensions):
            return
        scope, function = names_around(node)
        self.examined[extensions[0]] += 1
        if self.examined[extensions[0]] > MAX_EXAMINED or self.plain[extensions[0], scope] >= MAX_PLAIN:
            return
        guard, names = self.guards.around(node, extensions)
        if not guard and not weak and not names:
            self.plain[extensions[0], scope] += 1
        shown = shown or _written(node) if kind == "class" and node.type == "name" else _shown(kind, name)
        behind = self.guards.behind(node, extensions) if not guard and not weak else ()
        yield Use(extensions, kind, shown, line(node), guard, names, weak, scope, own, function, behind)

    def _bound(self, since: str, gone: str, what: str, node: Node) -> None:
        key = (since, gone, what)
        if key in self.syntax or self._checked_symbol(node, what):
            return
        self.syntax[key] = Syntax(since, gone, what, line(node))

    def _checked_symbol(self, node: Node, what: str) -> bool:
        """Whether the place is behind a check for the symbol itself, or behind a test of PHP's version."""
        plain = what.removesuffix("()").lower()
        for parent, child in ancestors(node):
            for condition, _ in self.guards.conditions(parent, child):
                asked = text(condition).lower()
                if plain in asked or VERSION.search(asked.encode()):
                    return True
                if "_exists" in asked or "defined" in asked or "is_callable" in asked:
                    return True
        return False

    def _called_by_name(self) -> Iterator[Use]:
        """Functions and classes named in strings, for another function to call them, or through a variable."""
        for start, end in self.spots.called_by_name:
            node = self._string_at(start)
            if node is not None and not self.data[node.start_byte : start].strip(b"\\"):
                given = self.data[start:end].decode("latin-1").lower()
                kind = "function" if provided("function", given) else "class"
                if kind == "function" or CALLS_METHOD.search(self.lowered[max(start - 60, 0) : end + 2]):
                    yield from self._use(kind, given, node)
        for match in self.spots.variables[:MAX_VARIABLES]:
            name = re.search(rb"(\$\w+)\s*$", self.lowered[max(match.start() - 80, 0) : match.start()])
            node = self._string_at(match.start(1))
            if name and node is not None and re.search(re.escape(name[1]) + rb"\s*\(", self.lowered[match.end() :]):
                yield from self._use("function", match[1].decode("latin-1"), node)
        for begun in self.spots.begun:
            for use in self._in_string(begun.start, begun.extension, "function", f"{begun.begins}...()"):
                yield msgspec.structs.replace(use, guard="checked") if begun.asked and not use.guard else use
        for match in self.spots.classes[:MAX_VARIABLES]:
            node = self.source.at(*match.span(2 if match[2] else 3))
            if (
                node is not None
                and node.type != "comment"
                and re.search(rb"\bnew\s+%s\b|%s::" % (re.escape(match[1]), re.escape(match[1])), self.lowered)
            ):
                written = (match[2] or match[3]).decode("latin-1").replace("\\\\", "\\")
                full = written if match[2] else self.source.names.class_name(written, node.start_byte)
                yield from self._use("class", full, node)
        for match in self.spots.constants:
            if self._string_at(match.start(1)) is not None:
                self.constants.append(self.data[match.start(1) : match.end(1)].decode("latin-1"))

    def _strings(self) -> Iterator[Use]:
        """Connection strings, stream wrappers and stream filters."""
        for match in self.spots.connections:
            group = "at" if match["at"] else "name"
            driver = match[group].decode().lower()
            extension = driver if group == "name" else f"pdo_{driver}"
            for use in self._in_string(match.start(group), extension, "connection", connection(driver)):
                node = self._string_at(match.start(group))
                if group == "name" and node is not None and among_extensions(node):
                    continue
                alone = group == "name" or node is None or not given_to_connection(self.source, node)
                # The text stands by itself; what makes a connection of it may never run.
                yield msgspec.structs.replace(use, guard="chosen") if alone and not use.guard else use
        for match in self.spots.databases if self.connects else ():
            driver = match[1].decode().lower()
            for use in self._in_string(match.start(1), f"pdo_{driver}", "connection", connection(driver)):
                yield msgspec.structs.replace(use, guard="chosen", names=())
        for start, kind, extension, name in self.spots.streams:
            node = self._string_at(start)
            yield from (of_stream(use, node) for use in self._in_string(start, extension, kind, name))

    def _in_string(self, start: int, extension: str, kind: str, shown: str) -> Iterator[Use]:
        """The use that a text stands for, if it stands in a string."""
        node = self._string_at(start)
        if node is not None:
            guard, names = self.guards.around(node, (extension,))
            scope, function = names_around(node)
            yield Use((extension,), kind, shown, line(node), guard, names, False, scope, "", function)

    def _string_at(self, start: int) -> Node | None:
        node = self.source.at(start, start + 1)
        return node if node is not None and node.type == "string_content" else None

    def _versioned(self) -> Iterator[str]:
        """Files that are included only under some versions of PHP."""
        for match in self.spots.includes:
            node = self.source.at(match.start(), match.start() + 1)
            if node is not None and self.guards.for_some_versions(node):
                yield match[1].decode("latin-1")


def _written(name: Node) -> str:
    """A name as it is written, with its namespace."""
    above = name.parent
    if above is not None and above.type == "namespace_name" and above.parent is not None:
        above = above.parent
    return text(above).lstrip("\\") if above is not None and above.type == "qualified_name" else text(name)


def _shown(kind: str, name: str) -> str:
    return f"{name}()" if kind == "function" else name
