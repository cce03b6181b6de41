"""What a program reads from a file beside its code, of JSON, INI, YAML or PHP, and holds against what is there.

``$release = json_decode(file_get_contents(__DIR__ . '/release.json'), true);``
``if (version_compare(PHP_VERSION, $release['minimum_php'], '<')) exit;``
"""

import itertools
import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any, Final

from msgspec.structs import replace

from fundamentum.derive.application.tree import Each, SourceFile, content_of
from fundamentum.derive.beside.requirement_files import extensions_in, table_in
from fundamentum.derive.php_source.facts import Check, FileFacts
from fundamentum.derive.php_source.nodes import Patience, parsed, unwrapped
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.derive.statements.extension_lists import of_array
from fundamentum.untrusted.files import read_below

_NAMED: Final = re.compile(rb"['\"/]([\w./-]{1,120}\.(?:json|ini|ya?ml))['\"]", re.I)
MAX_LOOKED_AT: Final = 200_000
"""Bytes of a source file in which names of such files are looked for."""
MAX_NAMED: Final = 5
"""Such files that one source file names."""
MAX_SIZE: Final = 100_000
MAX_DEPTH: Final = 5


def values_beside(root: str, path: str, data: bytes, key: str) -> Iterator[tuple[str, Any]]:
    """The file, and what stands under a key in it, of every file that a source file names.

    ``path``: of the source file, from the root; ``data``: its content.
    """
    named = dict.fromkeys(match[1].decode("latin-1") for match in _NAMED.finditer(data, 0, MAX_LOOKED_AT))
    for name in list(named)[:MAX_NAMED]:
        for folder in _upwards(path):
            where = f"{folder}/{name.lstrip('/')}".lstrip("/")
            with suppress(OSError, ValueError, RecursionError):
                table = table_in(read_below(Path(root), where, MAX_SIZE), where)
                yield from ((where, value) for value in _under(table, key, 0))
                break


def _upwards(path: str) -> Iterator[str]:
    """The directories above a file, the nearest first."""
    while "/" in path:
        path = path.rpartition("/")[0]
        yield path
    yield ""


def _under(table: Any, key: str, depth: int) -> Iterator[Any]:
    for name, value in table.items() if isinstance(table, dict) and depth < MAX_DEPTH else ():
        if name == key:
            yield value
        yield from _under(value, key, depth + 1)


def lists_beside(
    root: str, files: Sequence[SourceFile], facts: Mapping[str, FileFacts], each: Each
) -> dict[str, list[Check]]:
    """Source file → the extensions that it asks for by what another file has: a list, or a constant."""
    found: dict[str, list[Check]] = defaultdict(list)
    own = [file for file in files if file.part == "own"]
    names = tuple({one.list_name for fact in facts.values() for one in fact.held if one.list_name.isupper()})
    constants: dict[str, str] = {}
    for _, defined in each(_constants, own, names) if names else ():
        constants |= defined
    listed_under = {check.list_name for fact in facts.values() for check in fact.checks}
    kept = tuple(sorted({one.list_name for fact in facts.values() for one in fact.held} - listed_under))
    lists: dict[str, list[tuple[str, list[str]]]] = defaultdict(list)
    for file, told in each(_lists_in, own, kept) if kept else ():
        for name, listed in told:
            lists[name].append((file.path, listed))
    for file in files:
        held = facts[file.path].held if file.part == "own" and file.path in facts else ()
        data = content_of(root, file) if held else b""
        for check in held:
            if extension := extension_called(constants.get(check.list_name, "").encode()):
                found[file.path].append(replace(check, extension=extension, list_name=""))
            elif check.list_name.endswith((".php", ".inc")):
                found[file.path] += _returned(root, file, check, files)
            elif len(there := lists.get(check.list_name, [])) == 1:
                found[file.path] += _members(check, there)
            else:
                found[file.path] += _members(check, values_beside(root, file.path, data, check.list_name))
    return found


def _constants(data: bytes, names: Sequence[str]) -> dict[str, str]:
    """The plain texts that constants of some names are defined as in one file."""
    words = "|".join(map(re.escape, names)).encode()
    shape = rb"(?:define\s*\(\s*['\"]|const\s+(?:\w+\s+)?)(%s)['\"]?\s*[=,]\s*['\"]([\w -]{1,40})['\"]" % words
    return {match[1].decode(): match[2].decode() for match in re.finditer(shape, data)}


def _lists_in(data: bytes, names: Sequence[str]) -> list[tuple[str, list[str]]]:
    """The plain lists that are kept under some names in one file: ``$needed = ['curl', 'gd'];``"""
    kept = rb"\b(%s)\b['\"]?\s*(?:=>|\]?\s*=)\s*(?:\[|array\s*\()([^\[\]()]{1,2000})"
    words = "|".join(map(re.escape, names)).encode()
    return [
        (match[1].decode(), [name.decode() for name in _QUOTED.findall(match[2])])
        for match in re.finditer(kept % words, data)
    ]


_QUOTED: Final = re.compile(rb"['\"]([\w -]{1,40})['\"]")


def _returned(root: str, by: SourceFile, held: Check, files: Sequence[SourceFile]) -> Iterator[Check]:
    """The members of the list that an included file returns, of the nearest of that name."""
    named = [file for file in files if file.path.rpartition("/")[2] == held.list_name and file.size < MAX_SIZE]
    nearest = min(named, key=lambda file: (_apart(file.path, by.path), file.path), default=None)
    Patience.begin()
    with suppress(RecursionError):
        tree = parsed(content_of(root, nearest)) if nearest is not None else None
        returned = [line for line in tree.named_children if line.type == "return_statement"] if tree is not None else []
        for array in (unwrapped(part) for line in returned for part in line.named_children[:1]):
            if tree is not None and array is not None and array.type == "array_creation_expression":
                for check in of_array(array, True, "extension", tree):
                    outcome = held.outcome if check.outcome == "listed-required" else check.outcome
                    yield replace(held, extension=check.extension, outcome=outcome, list_name="")


def _apart(one: str, other: str) -> int:
    """How many directories lie between two files."""
    left, right = one.split("/"), other.split("/")
    common = sum(1 for _ in itertools.takewhile(lambda pair: pair[0] == pair[1], zip(left, right, strict=False)))
    return len(left) + len(right) - 2 * common


def _members(held: Check, listed: Iterable[tuple[str, Any]]) -> Iterator[Check]:
    for where, value in listed:
        for _, extension, level in extensions_in(value, "required", 0):
            outcome = held.outcome if level == "required" else "listed-recommended"
            yield replace(held, extension=extension, outcome=outcome, what=f"a list in {where}", list_name="")
