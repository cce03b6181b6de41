"""Places where a program itself holds PHP's version against one, and stops or reports an error.

``if (version_compare(PHP_VERSION, '8.1.0', '<')) exit(...)`` says that it needs PHP 8.1.
"""

import re
from collections.abc import Iterable, Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Gate, Outcome
from fundamentum.derive.php_source.nodes import around, children, heading, line, names_around, text
from fundamentum.derive.php_source.telling_names import TellingNames
from fundamentum.derive.statements.branches import branches
from fundamentum.derive.statements.consequences import consequences
from fundamentum.derive.statements.ending_functions import called_where
from fundamentum.derive.statements.stated_at import names_of
from fundamentum.derive.statements.versions_compared import Compared

NAMED: Final = (b"'PHP_VERSION", b'"PHP_VERSION', b"'PHP_M", b'"PHP_M')
"""How the names of PHP's constants begin in quotes: ``constant('PHP_VERSION_ID')``"""
_VERBS: Final = rb"(?:require|check|assert|ensure|need|min(?:imum)?)s?_?"
_DECLARED: Final = re.compile(
    rb"['\"]php(?:_?version|_?min)?['\"]\s*=>\s*['\"](?:>=|\^|~)?\s*(\d\.\d{1,2}(?:\.\d{1,2})?)['\"]", re.I
)
"""``'php' => '8.1'`` in a table."""
_OF_REQUIREMENTS: Final = re.compile(r"requir|depend|prerequisit", re.I)
_ASKING_NAME: Final = _VERBS + rb"\w{0,12}php_?(?:version)?|php_?version_?(?:requirement|check)"
_BY_NAME: Final = re.compile(rb"\b(" + _ASKING_NAME + rb")\s*\(\s*['\"](\d{1,2}\.\d{1,2}(?:\.\d{1,2})?)['\"]", re.I)
"""``$this->requirePhp('8.1')``, ``new PhpVersionRequirement('8.1')``"""
ASKING: Final = TellingNames(re.compile(rb"\A(?:" + _ASKING_NAME + rb")\Z"))
"""Functions and classes that ask for a version, by their names in lower case."""


def gates(root: Node, data: bytes, words: frozenset[bytes], compared: Iterable[Compared]) -> Iterator[Gate]:
    """The statements in one file.

    ``words``: those in it, in lower case, that may be names of functions which ask; ``compared``: where it compares
    PHP's version.
    """
    by_name = ASKING.among(words)
    for place, condition, holding, failing in compared:
        found = [(holds, result, "") for holds, result in consequences(condition)][:1] or _including(condition)[:1]
        for holds, result, includes in found or [(True, "", ""), (False, "", "")]:
            where = names_of(place) if names_around(place)[1] else ""
            calls = called_where(condition, holds)
            for operator, version in (failing if holds else holding) if result or includes or calls else ():
                yield Gate(operator, version, line(place), text(place)[:60], result, where, includes, calls)
    for entry in around(root, data, _DECLARED, ("array_element_initializer",)):
        known = _DECLARED.match(text(entry).encode("utf-8", "replace"))
        if known is not None and _OF_REQUIREMENTS.search(heading(entry)):
            yield Gate(
                ">=", known[1].decode(), line(entry), text(entry)[:60], "reports", f"requirements {names_of(entry)}"
            )
    for match in _BY_NAME.finditer(data) if by_name else ():
        written = root.descendant_for_byte_range(match.start(2), match.end(2))
        if written is not None and written.type == "string_content":
            yield Gate(">=", match[2].decode(), line(written), match[0].decode("latin-1")[:60], "reports")


MAX_STATEMENT: Final = 300
"""Characters of a statement that includes a file."""


def _including(condition: Node) -> list[tuple[bool, Outcome, str]]:
    """The file that one of the branches of a condition includes, and nothing else: it may hold what comes of it."""
    found: list[tuple[bool, Outcome, str]] = []
    for branch, holds in zip(branches(condition), (True, False), strict=True):
        lines = children(branch)
        included = lines and re.fullmatch(
            r"(?:include|require)(?:_once)?\b.*?([\w.-]+\.(?:php|inc))['\"]\)?\s*;", text(lines[0])[:MAX_STATEMENT]
        )
        found += [(holds, "", included[1])] if included and len(lines) == 1 else []
    return found
