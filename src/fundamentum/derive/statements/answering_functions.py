"""Functions of a program that answer whether what it needs is there, without being given anything.

``function ready() { return PHP_VERSION_ID >= 80100 && extension_loaded('gd'); }`` in one file,
``if (!ready()) exit;`` in another.
"""

import re
from collections.abc import Iterable, Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Asker
from fundamentum.derive.php_source.nodes import arguments, around, called, inside, names_around, string
from fundamentum.derive.php_source.scalars import is_true
from fundamentum.derive.statements.asking_functions import answered, gone_through
from fundamentum.derive.statements.branches import branches, function_of, named_behind, set_by
from fundamentum.derive.statements.extension_lists import meant, members
from fundamentum.derive.statements.truth import climbed
from fundamentum.derive.statements.versions_compared import Compared

_ASKED: Final = re.compile(rb"extension_loaded")
"""Not functions and classes: whether these are there is asked for all over a program, to do one thing or another."""


def answering(root: Node, lowered: bytes, compared: Iterable[Compared]) -> Iterator[Asker]:
    """The functions of one file that answer so.

    ``lowered``: its code in lower case; ``compared``: where it compares PHP's version.
    """
    for place, condition, holding, failing in compared:
        class_name, function = names_around(place)
        answers = answered(condition) if function else ""
        answers = answers if holding else {"present": "missing", "missing": "present"}.get(answers, "")
        for operator, version in (holding or failing) if answers else ():
            if isinstance(version, str):
                where = f"{class_name} {function}"
                yield Asker(
                    "answer", function, 0, False, "php", "", answers, where, operator=operator, names=(version,)
                )
    for call in around(root, lowered, _ASKED, ("function_call_expression",)):
        given, (class_name, function) = arguments(call), names_around(call)
        if not function or not given or called(call) != "extension_loaded":
            continue
        names = tuple(_asked_for(call, given[0], root))
        if names and (answers := answered(call) or _collected(call)):
            where = f"{class_name} {function}"
            yield Asker("answer", function, 0, False, "extension", "", answers, where, names=names)


def _asked_for(call: Node, asked: Node, root: Node) -> Iterator[str]:
    """The extensions that a check asks for by name, or by the members of a list that a loop goes through."""
    plain = string(asked)
    if plain is not None:
        yield from filter(None, [meant(plain, "extension")])
        return
    source, listed = gone_through(call, asked)
    yield from (check.extension for check in members(source, root, True) if listed and check.extension)


def _collected(call: Node) -> str:
    """``missing`` where the function returns what it collects of those that are: ``$lacking[] = $name;``"""
    for at, worth in climbed(call):
        for holds, branch in zip((True, False), branches(at), strict=True):
            there = worth.held is not None and is_true(worth.held) is holds
            for node in inside(branch) if branch is not None and not there else ():
                kept, value = set_by(node)
                for place in named_behind(kept, function_of(node)) if kept is not None and value is True else ():
                    if place.parent is not None and place.parent.type == "return_statement":
                        return "missing"
    return ""
