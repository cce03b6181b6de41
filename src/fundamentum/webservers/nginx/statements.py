"""nginx's configuration as a tree of statements, includes followed.  The language is read by crossplane."""

import re
import tempfile
from collections.abc import Iterable, Iterator
from typing import Any, Final

import crossplane

from fundamentum.hosts.base import MAX_TEXT, HostError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.origin import Origin
from fundamentum.model.remark import Remark
from fundamentum.model.surrounding_facts import UnknownLine
from fundamentum.webservers.handoffs import Files

_ONLY_TYPES: Final = lazy_regex(r"\s*types\s*\{(?:[^{}\"'#\\;]++;)*+\s*\}\s*")
"""A file of nothing but names of media types, which takes longer to read than all others, and decides nothing here."""
_BREAKS: Final = lazy_regex(r"unexpected (?:\"|end of file)")
"""What crossplane says of a file that nginx refuses too, in the same words."""
_PERHAPS_UNENDED: Final = lazy_regex(r"[^;{}\s]\s{0,99}\}")
_MAX_DEPTH: Final = 40
"""Blocks and included files within one another."""
_MAX_BLOCKS: Final = 30
"""Blocks within blocks."""
_MAX_STATEMENTS: Final = 50_000
"""Statements of one file: lists of addresses of that length are kept elsewhere."""
_MAX_ALL: Final = 200_000
"""Statements of the whole configuration, included ones counted each time."""


class Reader:
    """Reads the files of a configuration, each with those it includes."""

    def __init__(self, files: Files, folder: str) -> None:
        self.files, self.folder = files, folder
        self._trees: dict[str, list[dict[str, Any]]] = {}
        self._left = _MAX_ALL
        self._unreadable: dict[str, UnknownLine] = {}

    def statements(self, path: str, depth: int) -> Iterator[dict[str, Any]]:
        """The statements of a file, with those of the files it includes in their place."""
        text = self.files.text(path) if depth < _MAX_DEPTH else None
        if text is None:
            return
        if path not in self._trees:
            self._trees[path] = self._parsed(path, text)
        yield from self._expanded(self._trees[path], path, depth)

    def unreadable(self, paths: Iterable[str]) -> Iterator[UnknownLine]:
        """Where files that were read break the language, so that nginx does not take them."""
        yield from (self._unreadable[path] for path in paths if path in self._unreadable)

    def _parsed(self, path: str, text: str) -> list[dict[str, Any]]:
        if _ONLY_TYPES.fullmatch(text):
            return []
        if why := _oversized(text):
            self.files.remarks.append(Remark("web sites", f"{path}: {why}: not read, sites set up there are unknown"))
            return []
        try:
            with tempfile.NamedTemporaryFile("w", suffix=".conf", encoding="utf-8") as copy:  # it reads from paths only
                copy.write(text)
                copy.flush()
                parsed = crossplane.parse(copy.name, single=True, check_ctx=False, check_args=False)
                if line := _unended(copy.name, text):
                    self._unreadable[path] = UnknownLine('unexpected "}": is a ";" missing?', Origin(path, line))
        except Exception as error:  # whatever its parser stumbles over must not end the survey
            parsed = {"errors": [{"error": str(error), "line": None}], "config": []}
        for problem in parsed["errors"]:
            where = f"{path}:{problem['line']}" if problem["line"] else path
            why = str(problem["error"]).partition(" in /")[0][:200]
            self.files.remarks.append(Remark("web sites", f"{where}: nginx cannot read this file ({why})"))
            if _BREAKS.match(why):
                self._unreadable[path] = UnknownLine(why, Origin(path, problem["line"]))
        return [statement for file in parsed["config"] for statement in file["parsed"]]

    def _expanded(self, tree: list[dict[str, Any]], path: str, depth: int) -> Iterator[dict[str, Any]]:
        for statement in tree:
            self._left -= 1
            if self._left < 0:
                raise HostError(f"{path}: nginx has no end of included files: sites set up from there on are unknown")
            if statement["directive"] == "include" and statement["args"]:
                for included in self.files.included(self.folder, statement["args"][0]):
                    yield from self.statements(included, depth + 1)
            else:
                block = (
                    {"block": list(self._expanded(statement["block"], path, depth + 1))} if "block" in statement else {}
                )
                yield {**statement, **block, "origin": Origin(path, statement["line"])}


def _unended(path: str, text: str) -> int | None:
    """The line of a brace before which a statement has no end, which crossplane passes over."""
    before = ";"
    for word, line, quoted in crossplane.lex(path) if _PERHAPS_UNENDED.search(text) else ():
        if word == "}" and not quoted and before not in (";", "{", "}"):
            return int(line)
        if quoted or not word.startswith("#"):
            before = f" {word}" if quoted else word
    return None


def _oversized(text: str) -> str:
    """Why a file is not one that a person wrote; empty if it may be."""
    if text.count(";") + text.count("{") > _MAX_STATEMENTS or len(text) > MAX_TEXT // 2:
        return "larger than any configuration of a site"
    depth = deepest = 0
    for match in re.finditer(r"[{}]", text):
        depth += 1 if match[0] == "{" else -1
        deepest = max(deepest, depth)
    return "nested too deeply" if deepest > _MAX_BLOCKS else ""


def all_statements(tree: list[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    """All statements of a tree, those of blocks behind the block itself."""
    for statement in tree:
        yield statement
        yield from all_statements(statement.get("block", []))
