"""Texts in a source file that name a database, or a stream wrapper: what is done with them there."""

import itertools

import msgspec
from tree_sitter import Node

from fundamentum.derive.families import DATABASES
from fundamentum.derive.php_source.facts import Use
from fundamentum.derive.php_source.nodes import ancestors, called, field, string, text
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.derive.php_source.source import Source


def compared(written: Node) -> bool:
    """Whether a text is only held against another: ``strpos($path, 'phar://') === 0``."""
    for above, _ in ancestors(written):
        if above.type == "binary_expression":
            return text(field(above, "operator")) != "."
        if above.type == "function_call_expression":
            name = called(above)
            return name.startswith(("str", "preg_", "in_array", "mb_str", "substr")) and not name.startswith("stream")
        if above.type in ("array_element_initializer", "case_statement"):
            return True
        if above.type.endswith("_statement") or above.type == "assignment_expression":
            return False
    return False


def connection(driver: str) -> str:
    return f"connection to {driver.removeprefix('pdo_')}"


def among_extensions(written: Node) -> bool:
    """Whether a name stands in a list of extensions, which are more than drivers: ``['intl', 'pdo_sqlite']``."""
    around = [node for node, _ in itertools.islice(ancestors(written), 3)]
    if [node.type for node in around[1:]] != ["array_element_initializer", "array_creation_expression"]:
        return False
    others = (string(each.named_children[-1]) for each in around[-1].named_children if each.named_children)
    names = (extension_called(other.encode("latin-1", "replace")) for other in others if other)
    return any(name and name not in DATABASES for name in names)


def given_to_connection(source: Source, node: Node) -> bool:
    """Whether a string stands within ``new PDO(...)``."""
    for parent, _ in ancestors(node):
        if parent.type == "object_creation_expression":
            return "pdo" in text(parent)[:40].lower()
        if parent.type.endswith("_statement"):
            return False
    return False


def of_stream(use: Use, written: Node | None) -> Use:
    """The use of a stream wrapper or filter, by what is done with the text that names it.

    ``'ssl://' . $host``: whether that stands before the name of a host is configured.
    """
    if written is None or compared(written):
        return msgspec.structs.replace(use, weak=written is not None)
    by_choice = use.extensions == ("openssl",) and text(written).endswith("://")
    return msgspec.structs.replace(use, guard="chosen") if by_choice and not use.guard else use
