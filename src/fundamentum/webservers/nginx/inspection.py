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
from fundamentum.untrusted.budget import Spent

SIZE: Final = "SecRequestBodyLimit"
UNKNOWN: Final = "not known"
MAX_FILES: Final = 300
MAX_DEPTH: Final = 8
MAX_RULES: Final = 4_000_000
"""Characters of all files with rules together: the largest sets have half of that."""
_LINE: Final = re.compile(
    r"""^[ \t]*+(?:(?P<name>SecRuleEngine|SecRequestBodyLimit|SecRequestBodyLimitAction|Include|IncludeOptional)[ \t]++
    ["']?(?P<value>[^\s"']++)|SecRemoteRules\b|
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


class Rules:
    """Reads rules, in files and those that they include, each once and all of them within bounds."""

    def __init__(self, host: Host) -> None:
        self.host = host
        self._files, self._left = MAX_FILES, MAX_RULES
        self._known: dict[str, Told] = {}

    def entered(self, tree: list[dict[str, Any]], around: Inspection) -> Inspection:
        """What is said of it within a block.  ``around``: what the blocks around it say."""
        told: Told = {}
        for statement in tree:
            name, words, origin = statement["directive"], statement["args"], statement["origin"]
            if name == "modsecurity":
                told |= {"on": words[:1] != ["off"], **({} if words else {"unclear": origin})}
            elif name == "modsecurity_rules_file" and words and words[0].startswith("/"):
                told |= self._of_file(posixpath.normpath(words[0]), origin, 0)
            elif name == "modsecurity_rules" and words:
                told |= self._of_text(words[0], None, origin, MAX_DEPTH)
            elif name.startswith("modsecurity_rules"):
                told |= {"unclear": origin}  # they come from elsewhere, or were not recorded
        return msgspec.structs.replace(around, **told) if told else around

    def _of_file(self, path: str, origin: Origin, depth: int) -> "Told":
        """What a file says; unclear where it cannot be read, or includes itself.  ``origin``: of what names it."""
        if path not in self._known:
            self._known[path] = {"unclear": origin}
            text = self._text(path) if depth < MAX_DEPTH and self._files > 0 else None
            self._files, self._left = self._files - 1, self._left - len(text or "")
            if text is not None and self._left >= 0:
                self._known[path] = self._of_text(text, path, origin, depth)
        return self._known[path]

    def _of_text(self, text: str, path: str | None, origin: Origin, depth: int) -> "Told":
        told: Told = {}
        line, counted = 1, 0
        for match in _LINE.finditer(text):
            line, counted = line + text.count("\n", counted, match.start()), match.start()
            place = Origin(path, line) if path else origin
            name, value = (match["name"] or "").lower(), (match["value"] or "").lower()
            if name in _FIELDS:
                told[_FIELDS[name]] = value
            elif name == SIZE.lower():
                told["size"] = (value, place)
            elif name and path:
                told |= self._included(posixpath.join(posixpath.dirname(path), match["value"]), origin, depth)
            else:
                told["unclear"] = place
        return told

    def _included(self, pattern: str, origin: Origin, depth: int) -> "Told":
        if self._files <= 0:
            return {"unclear": origin}
        files = matching(self.host, posixpath.normpath(pattern)) if pattern.startswith("/") else []
        told: Told = {} if files or self.host.whole else {"unclear": origin}
        for file in files[: MAX_FILES + 1]:
            told |= self._of_file(file, origin, depth + 1)
        return told

    def _text(self, path: str) -> str | None:
        try:
            return text_of(self.host, path)
        except Spent:
            raise
        except HostError:
            return None


Told = dict[str, Any]
"""What some rules say: fields of :class:`Inspection`."""
_FIELDS: Final = {"secruleengine": "engine", "secrequestbodylimitaction": "action"}
