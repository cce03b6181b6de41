"""Places where a program names the version of PHP that it needs: in a table of requirements, or in a call.

``'requires' => ['php' => '8.1']``, ``$this->requirePhp('8.1')``
"""

import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Gate, Operator, Outcome
from fundamentum.derive.php_source.nodes import around, heading, line, names_of, text
from fundamentum.derive.php_source.telling_names import TellingNames
from fundamentum.derive.statements.requirement_names import OF_REQUIREMENTS

NAMED: Final = (b"'PHP_VERSION", b'"PHP_VERSION', b"'PHP_M", b'"PHP_M')
"""How the names of PHP's constants begin in quotes: ``constant('PHP_VERSION_ID')``"""
_VERBS: Final = rb"(?:require|check|assert|ensure|need|min(?:imum)?)s?_?"
_DECLARED: Final = re.compile(
    rb"['\"]php(?:_?version|_?min)?['\"]\s*=>\s*['\"](?:>=|\^|~)?\s*(\d\.\d{1,2}(?:\.\d{1,2})?)"
    rb"(?:\s*-\s*(\d\.\d{1,2})(?:\.\d{1,3})?)?['\"]",
    re.I,
)
"""``'php' => '8.1'`` in a table, or ``'php' => '8.1.0-8.4.99'``."""
_TABLE_OF_PHP: Final = re.compile(
    rb"['\"]php(?:_?version)?['\"]\s*=>\s*(?:\[|array\s*\()(?=(?P<body>[^;]{0,400}))", re.I
)
_ENDS: Final = re.compile(
    rb"(?:\A|(?<=,))\s*['\"](?P<key>min(?:imum|imal)?|least|lowest|from|version|max(?:imum)?|below)(?:_?version)?['\"]"
    rb"\s*=>\s*['\"](?:>=|\^|~)?\s*(?P<version>\d\.\d{1,2}(?:\.\d{1,2})?)(?:\.[x*])?['\"]",
    re.I,
)
"""``'php' => ['min' => '8.1', 'max' => '8.4']``"""
_EXPLAINED: Final = re.compile(
    rb"['\"](?:min(?:imum|imal)?|requir(?:ed|es?)|least|needed|lowest)_?php_?version['\"]\s*=>\s*"
    rb"['\"](?:>=|\^|~)?\s*(\d\.\d{1,2}(?:\.\d{1,2})?)['\"]",
    re.I,
)
"""The same by a key that says it all: ``'requiredPhpVersion' => '8.1'``"""
_MEMBER: Final = re.compile(
    rb"(?:\$|\bconst\s+(?:string\s+)?)(?:(?:min(?:imum|imal)?|requir(?:ed|es?)|needed|lowest)_?php(?:_?version)?|"
    rb"php_?(?:min(?:imum)?|required)(?:_?version)?)\s*=\s*['\"](?:>=|\^|~)?\s*(\d\.\d{1,2}(?:\.\d{1,2})?)['\"]",
    re.I,
)
"""The same by a member of a class, which another one asks that is not here: ``protected $minimumPhp = '8.1';``"""
_ANSWERED: Final = re.compile(
    rb"\bfunction\s+(?:get_?)?(?:min(?:imum|imal)?|requir(?:ed|es)|needed|lowest)_?php(?:_?version)?\s*\(\s*\)[\s:?\w]{0,30}+"
    rb"\{\s*return\s*['\"](?:>=|\^|~)?\s*(\d\.\d{1,2}(?:\.\d{1,2})?)['\"]",
    re.I,
)
"""The same by what a function answers that is called so: ``function getMinimumPhpVersion() { return '8.1'; }``"""
_NUMBERS: Final = re.compile(
    rb"\b(?:php_?min|min_?php)(?:_?version)?['\"]?\]?\s*=>?\s*(?:array\s*\(|\[)\s*(\d)\s*,\s*(\d{1,2})\s*(?:,\s*\d{1,2}\s*)?[)\]]",
    re.I,
)
"""``$this->phpmin = array(7, 4)``"""
_KEYS: Final = tuple(
    b"phpmin php_min minphp min_php phpversion' phpversion\" php_version' php_version\" minimumphp minimum_php "
    b"minimalphp minimal_php requiredphp required_php requiresphp requires_php neededphp needed_php lowestphp "
    b"lowest_php phprequired php_required".split()
)
_TABLE_OF_REQUIREMENTS: Final = re.compile(r"requir|depend|prerequisit", re.I)
_ASKING_NAME: Final = _VERBS + rb"\w{0,12}php_?(?:version)?|php_?version_?(?:requirement|check)"
_BY_NAME: Final = re.compile(
    rb"\b(" + _ASKING_NAME + rb")\s*\(\s*['\"](\d{1,2}\.\d{1,2}(?:\.\d{1,2})?)['\"](?!\s*,\s*['\"]\d)", re.I
)
"""``$this->requirePhp('8.1')``, ``new PhpVersionRequirement('8.1')``"""
ASKING: Final = TellingNames(re.compile(rb"\A(?:" + _ASKING_NAME + rb")\Z"))
"""Functions and classes that ask for a version, by their names in lower case."""


def speaks(data: bytes, lowered: bytes) -> bool:
    """Whether a file may have a key that says which version of PHP it needs.  ``lowered``: the same in lower case."""
    named = b"'php'" in lowered or b'"php"' in lowered
    declared = named and (_DECLARED.search(data) or _TABLE_OF_PHP.search(data))
    return any(key in lowered for key in _KEYS) or bool(declared)


def gates(root: Node, data: bytes, words: frozenset[bytes]) -> Iterator[Gate]:
    """The statements in one file that name a version, without holding PHP's own against it.

    ``words``: those in it, in lower case, that may be names of functions which ask.
    """
    by_name = ASKING.among(words)
    for entry in around(root, data, _DECLARED, ("array_element_initializer",)):
        declared = _DECLARED.match(text(entry).encode("utf-8", "replace"))
        if declared is not None and _of_requirements(entry):
            yield _of_entry(entry, ">=", declared[1].decode(), "reports")
            if declared[2]:
                major, _, minor = declared[2].decode().partition(".")
                yield _of_entry(entry, "<", f"{major}.{int(minor) + 1}", "stops")
    for entry in around(root, data, _TABLE_OF_PHP, ("array_element_initializer",)):
        table = _TABLE_OF_PHP.match(text(entry).encode("utf-8", "replace"))
        if table is not None and _of_requirements(entry):
            yield from _of_table(entry, table["body"])
    for entry in around(root, data, _EXPLAINED, ("array_element_initializer",)):
        explained = _EXPLAINED.match(text(entry).encode("utf-8", "replace"))
        if explained is not None:
            yield _of_entry(entry, ">=", explained[1].decode(), "reports")
    for member in around(root, data, _MEMBER, ("property_declaration", "const_declaration")):
        stated = _MEMBER.search(text(member).encode("utf-8", "replace"))
        if stated is not None and member.parent is not None and member.parent.type == "declaration_list":
            yield _of_entry(member, ">=", stated[1].decode(), "reports")
    for match in _ANSWERED.finditer(data):
        at = data.count(b"\n", 0, match.start(1)) + 1
        yield Gate(">=", match[1].decode(), at, match[0].decode("latin-1")[:60], "reports", OF_REQUIREMENTS)
    for match in _NUMBERS.finditer(data):
        version, at = f"{match[1].decode()}.{match[2].decode()}", data.count(b"\n", 0, match.start()) + 1
        yield Gate(">=", version, at, match[0].decode("latin-1")[:60], "reports", OF_REQUIREMENTS)
    for match in _BY_NAME.finditer(data) if by_name else ():
        written = root.descendant_for_byte_range(match.start(2), match.end(2))
        if written is not None and written.type == "string_content":
            yield Gate(">=", match[2].decode(), line(written), match[0].decode("latin-1")[:60], "reports")


def _of_requirements(entry: Node) -> bool:
    """Whether the entry of a table is one of what is required, by what is above it, or by what stands beside it."""
    beside = text(entry.parent)[:MAX_TABLE] if entry.parent is not None else ""
    return _TABLE_OF_REQUIREMENTS.search(heading(entry)) is not None or _BESIDE.search(beside) is not None


def _of_table(entry: Node, body: bytes) -> Iterator[Gate]:
    """The ends that a table gives; not those of tables in it, nor of what stands behind it."""
    for end in _ENDS.finditer(_FURTHER.split(body, maxsplit=1)[0]):
        version, key = end["version"].decode(), end["key"].lower()
        if key == b"below":
            yield _of_entry(entry, "<", version, "stops")
        elif key.startswith(b"max"):
            major, _, minor = version.partition(".")
            yield _of_entry(entry, "<", f"{major}.{int(minor.partition('.')[0]) + 1}", "stops")
        else:
            yield _of_entry(entry, ">=", version, "reports")


_FURTHER: Final = re.compile(rb"[\[\])]|array\s*\(", re.I)
_BESIDE: Final = re.compile(r"['\"](?:(?:php_?)?ext(?:ension)?s|requirements|dependencies)['\"]\s*=>", re.I)
MAX_TABLE: Final = 2000
"""Characters of a table in which it is seen whether extensions stand in it, too."""


def _of_entry(entry: Node, operator: Operator, version: str, outcome: Outcome) -> Gate:
    """What the entry of a table says."""
    return Gate(operator, version, line(entry), text(entry)[:60], outcome, f"{OF_REQUIREMENTS} {names_of(entry)}")
