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
