"""PowerShell as its grammar has it: no interpreter of it is to be had here."""

from functools import cache

import tree_sitter_powershell
from tree_sitter import Language, Node, Parser


@cache
def _parser() -> Parser:
    return Parser(Language(tree_sitter_powershell.language()))


def mistakes(text: str) -> list[str]:
    """The places at which a script breaks the grammar."""
    data = text.encode()
    found: list[str] = []
    todo: list[Node] = [_parser().parse(data).root_node]
    while todo:
        node = todo.pop()
        if node.type == "ERROR" or node.is_missing:
            found.append(f"{node.start_point.row + 1}: {data[node.start_byte : node.end_byte][:60].decode()}")
        todo += node.children
    return found


def spelled_twice(text: str) -> list[str]:
    """Variables outside of functions that are written in two ways: to PowerShell they are one, which nobody means."""
    data = text.encode()
    spelled: dict[str, set[str]] = {}
    todo: list[Node] = [_parser().parse(data).root_node]
    while todo:
        node = todo.pop()
        if node.type == "variable":
            name = data[node.start_byte : node.end_byte].decode().lstrip("$@")
            spelled.setdefault(name.lower(), set()).add(name)
        todo += [child for child in node.children if child.type != "function_statement"]
    return sorted(name for name, ways in spelled.items() if len(ways) > 1)
