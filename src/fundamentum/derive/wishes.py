"""What source says of its surroundings: settings it sets or compares, commands it runs, directories it writes to."""

import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.catalog.quantity import quantity
from fundamentum.derive.facts import Wish
from fundamentum.derive.limit_checks import LIMITS, limits_wanted
from fundamentum.derive.source import Source

COMMANDS: Final = frozenset({"exec", "shell_exec", "system", "passthru", "popen", "proc_open"})
DIRECTORIES: Final = frozenset({"is_writable", "is_writeable", "mkdir"})
SETTINGS: Final = frozenset({"ini_get", "ini_set", "set_time_limit"})
CALLS: Final = COMMANDS | DIRECTORIES | SETTINGS

_EVERYWHERE: Final = frozenset(
    "cd echo ls cat rm cp mv mkdir ln chmod chown true false test which type command set export exec nice sh bash "
    "env php sudo date uname hostname whoami id ps kill pwd sleep touch head tail sort wc cut tr sed grep awk "
    "find xargs nohup time cmd start dir copy del where tasklist wmic".split()
)
_COMMAND: Final = re.compile(r"[A-Za-z][\w+.-]*")
_NUMBER: Final = re.compile(r"-?\d+\s*[kKmMgG]?")
_PATH: Final = re.compile(r"[\w./-]{1,120}")


def wishes_of(source: Source, call: Node, name: str) -> Iterator[Wish]:
    """What one call of a function of ``CALLS`` tells."""
    arguments = source.arguments(call)
    line = source.line(call)
    if name == "set_time_limit" and arguments:
        seconds = source.text(arguments[0])
        if seconds.isdigit() and int(seconds) > 0:
            yield Wish("setting", "max_execution_time", f">= {seconds}", line, f"set_time_limit({seconds})")
    elif name == "ini_set" and len(arguments) > 1:
        directive, value = source.literal(arguments[0]), _scalar(source, arguments[1])
        if directive in LIMITS and value is not None and _sensible(value):
            yield Wish("setting", directive, f">= {value}", line, f"ini_set('{directive}', '{value}')")
    elif name == "ini_get":
        for limit in limits_wanted(source.root, call):
            how = f"ini_get('{limit.directive}') is compared"
            yield Wish("setting", limit.directive, f">= {limit.least}", limit.line, how, limit.stops)
    elif name in COMMANDS and arguments:
        yield Wish("function", name, "", line, f"{name}()")
        command = _command(_beginning(source, arguments[0]))
        if command:
            yield Wish("command", command, "", line, f"{name}()")
    elif name in DIRECTORIES and arguments:
        path = _directory(source, arguments[0])
        if path:
            yield Wish("directory", path, "", line, f"{name}()")


def _scalar(source: Source, node: Node) -> str | None:
    return source.text(node) if node.type == "integer" else source.literal(node)


def _sensible(value: str) -> bool:
    return bool(_NUMBER.fullmatch(value)) and quantity(value).number > 0


def _beginning(source: Source, node: Node) -> str:
    """The constant text with which an expression begins."""
    if node.type == "binary_expression":
        left = node.child_by_field_name("left")
        return _beginning(source, left) if left is not None else ""
    if node.type == "function_call_expression" and source.called(node) in ("sprintf", "escapeshellcmd"):
        arguments = source.arguments(node)
        return _beginning(source, arguments[0]) if arguments else ""
    if node.type in ("string", "encapsed_string"):
        first = node.named_children[0] if node.named_children else None
        return source.text(first) if first is not None and first.type == "string_content" else ""
    return ""


def _command(text: str) -> str:
    words = text.strip().strip("\"'").split()
    if not words:
        return ""
    name = words[0].rsplit("/", 1)[-1].strip("\"'")
    if not _COMMAND.fullmatch(name) or (len(words) == 1 and text.endswith(("-", "_", "/"))):
        return ""
    return "" if name.lower().removesuffix(".exe") in _EVERYWHERE else name


def _directory(source: Source, node: Node) -> str:
    """A directory named from the application's root or from the file's own: ``__DIR__ . '/cache'``."""
    text = source.literal(node)
    if text is not None:
        return text.rstrip("/") if _PATH.fullmatch(text) and not text.startswith("/") and text.strip("./") else ""
    if node.type == "binary_expression":
        left, right = node.child_by_field_name("left"), node.child_by_field_name("right")
        if left is None or right is None:
            return ""
        base, rest = source.text(left).replace(" ", ""), source.literal(right)
        if rest and _PATH.fullmatch(rest) and base in ("__DIR__", "dirname(__FILE__)"):
            return "./" + rest.strip("/")
        if rest and _PATH.fullmatch(rest) and base in ("dirname(__DIR__)", "dirname(dirname(__FILE__))"):
            return "../" + rest.strip("/")
    return ""
