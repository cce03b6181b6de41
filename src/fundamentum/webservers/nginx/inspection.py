"""What mod_security lets through in nginx: how large a body may be, as its rules say.

It refuses what is larger (403) where it is on, its engine runs and its action is ``Reject``; whether it looks at what
is sent in makes no difference.  Without a line for the size there is no limit.

Source: asked of a real server with mod_security 3.0.9 and its connector 1.0.3.
"""

import posixpath
import re
from typing import Any, Final

import msgspec

from fundamentum.hosts.base import Host, HostError, matching, text_of
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Limit

SIZE: Final = "SecRequestBodyLimit"
UNKNOWN: Final = "not known"
MAX_FILES: Final = 300
MAX_DEPTH: Final = 8
MAX_RULES: Final = 4_000_000
"""Characters of all files with rules together: the largest sets have half of that."""
_LINE: Final = re.compile(
    r"""^[ \t]*+(?:(?P<name>SecRuleEngine|SecRequestBodyLimit|SecRequestBodyLimitAction|Include|IncludeOptional)[ \t]++
    ["']?(?P<value>[^\s"']++)|(?P<remote>SecRemoteRules)\b|
    (?!\#)[^\n]{0,4000}?\bctl:ruleEngine=On)""",
    re.M | re.X | re.I,
)


class Inspection(msgspec.Struct, frozen=True):
    """What is said of it around a directive."""

    on: bool = False
    engine: str = "off"
    action: str = ""
    size: tuple[str, Origin] | None = None
    unclear: Origin | None = None
    """Where it is said in a way that tells nothing here, or not for all requests."""

    def limit(self) -> Limit | None:
        """What it comes to for requests that are handed on there; None: no limit."""
        if not self.on:
            return None
        if self.unclear is not None:
            return Limit(SIZE, UNKNOWN, self.unclear)
        refuses = self.engine == "on" and self.action == "reject"
        return Limit(SIZE, *self.size) if refuses and self.size is not None else None


def entered(host: Host, tree: list[dict[str, Any]], around: Inspection) -> Inspection:
    """What is said of it within a block.  ``around``: what the blocks around it say."""
    told = around
    for statement in tree:
        name, words, origin = statement["directive"], statement["args"], statement["origin"]
        if name == "modsecurity":
            told = msgspec.structs.replace(told, on=words[:1] != ["off"], unclear=told.unclear if words else origin)
        elif name == "modsecurity_rules_file" and words and words[0].startswith("/"):
            told = _Rules(host, origin).of_file(words[0], told)
        elif name == "modsecurity_rules" and words:
            for match in _LINE.finditer(words[0]):
                told = _with(match, origin, told)
        elif name.startswith("modsecurity_rules"):
            told = msgspec.structs.replace(told, unclear=origin)  # they come from elsewhere, or were not recorded
    return told


class _Rules:
    """Reads files with rules, and those that they include, in order and within bounds."""

    def __init__(self, host: Host, origin: Origin) -> None:
        self.host, self.origin = host, origin
        self.files, self.left = MAX_FILES, MAX_RULES

    def of_file(self, path: str, told: Inspection, depth: int = 0) -> Inspection:
        """What a file says; unclear where it cannot be read."""
        text = _text(self.host, posixpath.normpath(path)) if depth < MAX_DEPTH else None
        self.files, self.left = self.files - 1, self.left - len(text or "")
        if text is None or self.files < 0 or self.left < 0:
            return msgspec.structs.replace(told, unclear=self.origin)
        for match in _LINE.finditer(text):
            if not (match["name"] or "").lower().startswith("include"):
                told = _with(match, Origin(path, text.count("\n", 0, match.start()) + 1), told)
                continue
            pattern = posixpath.normpath(posixpath.join(posixpath.dirname(path), match["value"]))
            files = matching(self.host, pattern) if pattern.startswith("/") else []
            if not files and not self.host.whole:
                told = msgspec.structs.replace(told, unclear=self.origin)
            for file in files:
                told = self.of_file(file, told, depth + 1)
        return told


def _text(host: Host, path: str) -> str | None:
    try:
        return text_of(host, path)
    except HostError:
        return None


def _with(match: re.Match[str], origin: Origin, told: Inspection) -> Inspection:
    name, value = (match["name"] or "").lower(), (match["value"] or "").lower()
    if name == "secruleengine":
        return msgspec.structs.replace(told, engine=value)
    if name == "secrequestbodylimitaction":
        return msgspec.structs.replace(told, action=value)
    if name == "secrequestbodylimit":
        return msgspec.structs.replace(told, size=(value, origin))
    return msgspec.structs.replace(told, unclear=origin)
