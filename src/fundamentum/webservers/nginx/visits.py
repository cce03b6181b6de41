"""What nginx's configuration makes of an address of a server.

Source: nginx's documentation of its core (``location``, ``try_files``, ``error_page``, ``internal``), rewrite, access,
autoindex and FastCGI modules.  A visitor is nobody in particular: he asks by the site's own name, from anywhere, for a
page and no more.  What depends on more than that, or is not followed here, makes it unclear.
"""

import re
from collections.abc import Callable, Iterator, Sequence
from typing import Any, Final

import msgspec
from msgspec.structs import replace

from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.surrounding_facts import Barrier, Visit
from fundamentum.webservers.nginx.barriers import access
from fundamentum.webservers.nginx.conditions import decides, holds
from fundamentum.webservers.nginx.statements import all_statements
from fundamentum.webservers.visit_questions import MAX_TURNS, Asked, Unclear, answer, barred, matched

_ELSEWHERE: Final = frozenset(
    {
        "proxy_pass",
        "uwsgi_pass",
        "scgi_pass",
        "grpc_pass",
        "memcached_pass",
        "auth_basic",
        "auth_request",
        "alias",
        "perl",
        "js_content",
        "root",
    }
)
"""What in a location makes something else of a request than is followed here."""
_LET_IN: Final = frozenset({"root", "auth_basic", "auth_request"})
"""Those of them that do not decide to what a request is handed that is let in."""
Block = Sequence[dict[str, Any]]


_PAGE: Final = "/page"
"""An address of which there is no file."""
ASKED: Final = ("/", _PAGE, "/index.php", "/another.php", "/sub/another.php")
"""What visitors ask for: the first page, a page, and scripts."""


class Way(msgspec.Struct):
    """The way of one request through a server."""

    uri: str
    passed: list[tuple[Block, ...]] = msgspec.field(default_factory=list)
    """The locations it is looked up in one after the other, each with those around it."""
    handed: dict[str, Any] | None = None
    """The statement that hands it to PHP; None: none does."""
    script: str = ""
    """The address of the script that answers it there."""
    unclear: bool = False
    """Whether it was not followed to its end."""


class Answers:
    """One server's block, with what surrounds it, and the name by which a visitor asks for it."""

    def __init__(self, block: Block, around: Sequence[Block], name: str = "") -> None:
        self.block, self.around, self.name = block, around, name
        self._elsewhere = _ELSEWHERE
        self._is_file: Callable[[str], bool] | None = None
        self._let_in = self._everybody = False
        """Whether the visitor is let in, whatever rules there are; whether only rules for everybody keep him out."""
        self._way = Way("")
        self._rewriting: Origin | None = None
        """The line that rewrote an address last."""

    def visit(self, question: str) -> Visit:
        """What comes of an address, as :attr:`~fundamentum.model.survey.Site.visits` has it."""
        return answer(question, self._asked_for)

    def ways(self, is_file: Callable[[str], bool]) -> list[Way]:
        """The ways of requests of a visitor who is let in; ``is_file`` tells whether a path is a file."""
        of = Answers(self.block, self.around, self.name)
        of._elsewhere, of._is_file, of._let_in = _ELSEWHERE - _LET_IN, is_file, True
        levels = []
        for uri in ASKED:
            of._way = Way(uri)
            levels.append(of._way)
            try:
                of._asked_for(Asked(uri, uri != _PAGE))
            except (Unclear, RecursionError):
                of._way.unclear = True
        return levels

    def barred(self, is_file: Callable[[str], bool], *, led: bool = False) -> Iterator[Barrier]:
        """What keeps every visitor from the site's first page; ``is_file`` tells whether a path is a file.

        ``led``: as soon as another line leads there.
        """
        of = Answers(self.block, self.around, self.name)
        of._elsewhere, of._is_file, of._everybody = _ELSEWHERE - {"root"}, is_file, True
        instead = any(line["directive"] == "error_page" for level in (*self.around, self.block) for line in level)
        if not instead:
            yield from barred("nginx", "/index.php", of._asked_for, led=led)

    def _asked_for(self, asked: Asked) -> Visit:
        """The answer of the server: its own rewriting comes first, after an internal redirection too."""
        if asked.turns > MAX_TURNS:
            return self._endless()
        first = self._rewritten(self.block, asked)
        return first if isinstance(first, Visit) else self._in_location(self._looked_up(first.uri), first)

    def _looked_up(self, uri: str) -> tuple[Block, ...]:
        chain = self._found(self.block, uri)[0]
        self._way.passed.append(chain)
        return chain

    def _in_location(self, chain: tuple[Block, ...], asked: Asked) -> Visit:
        inner = chain[-1] if chain else self.block
        if chain:
            after = self._rewritten(inner, asked)
            if isinstance(after, Visit):
                return after
            if after.turns > MAX_TURNS:
                return self._endless()
            if after.turns > asked.turns:
                return self._in_location(self._looked_up(after.uri), after)
            asked = after
        if asked.turns == 0 and not asked.inside and not self._let_in and (line := _one(inner, "internal")):
            return Visit("refused", origin=line["origin"])
        levels = (*self.around, self.block, *chain)
        if refused := self._refused(levels):
            return refused
        if any(
            statement["directive"] in self._elsewhere and statement["args"] != ["off"]
            for level in chain
            for statement in level
        ):
            raise Unclear
        if files := _one(inner, "try_files"):
            return self._tried(files, inner, levels, asked)
        return self._content(inner, levels, asked)

    def _endless(self) -> Visit:
        """A request that is rewritten again and again is answered with an error in the end."""
        if self._rewriting is None:
            raise Unclear
        return Visit("refused", origin=self._rewriting)

    def _refused(self, levels: Sequence[Block]) -> Visit | None:
        """What rules about who may ask make of the request: the first that fits a visitor counts."""
        rules: tuple[tuple[str, str, Origin], ...] = ()
        for level in levels:
            rules = access(level, rules)
        deciding = next((rule for rule in rules if rule[1] == "all"), None)
        if self._let_in or deciding is None or deciding[0] != "deny" or (self._everybody and rules[0] != deciding):
            return None
        asks = any(statement["directive"].startswith("auth_") for level in levels for statement in level)
        if asks and ("satisfy", "any") in {rule[:2] for rule in rules}:
            raise Unclear
        return Visit("refused", origin=deciding[2])

    def _tried(self, files: dict[str, Any], inner: Block, levels: Sequence[Block], asked: Asked) -> Visit:
        *names, last = files["args"] or [""]
        own = {"$uri", "$fastcgi_script_name", "$document_uri"}
        if any("$" in name and name.rstrip("/") not in own for name in names):
            raise Unclear
        here = {name.rstrip("/") for name in names if name.endswith("/") == asked.uri.endswith("/")} & own
        if asked.there and here:
            return self._content(inner, levels, asked)
        if last.startswith("="):
            return Visit("missing" if last == "=404" else "refused", origin=files["origin"])
        if last.startswith("@"):
            named = next((s for s in self.block if s["directive"] == "location" and s["args"] == [last]), None)
            if named is None:
                raise Unclear
            return self._in_location((named["block"],), replace(asked, turns=asked.turns + 1))
        return self._redirected(last, asked, files["origin"])

    def _redirected(self, to: str, asked: Asked, origin: Origin) -> Visit:
        """The answer of another address of the server; that of a script is told with the line that leads there."""
        path = re.split(r"\?|\$is_args", to)[0].replace("$uri", asked.uri)
        if not path.startswith("/") or "$" in path:
            raise Unclear
        visit = self._asked_for(Asked(path, True, asked.turns + 1))
        return replace(visit, origin=origin) if visit.outcome == "script" else visit

    def _content(self, inner: Block, levels: Sequence[Block], asked: Asked) -> Visit:
        if passed := _one(inner, "fastcgi_pass"):
            script = _constant_script(levels) or re.sub(r"(\.php)/.*", r"\1", asked.uri)
            script += _index_of_php(levels) if script.endswith("/") else ""
            there = asked.there or bool(_constant_script(levels))
            self._way.handed, self._way.script = passed, script
            return Visit("script" if there else "missing", script if there else "", passed["origin"])
        if asked.uri.endswith("/") and asked.there and self._is_file and (name := _index(levels, self._is_file)):
            return self._redirected(f"{'' if name[0] == '/' else asked.uri}{name}", asked, BUILT_IN)
        if asked.uri.endswith("/") and asked.there:
            listed = next((line for level in reversed(levels) if (line := _one(level, "autoindex"))), None)
            on = listed is not None and listed["args"] == ["on"]
            return Visit("handed-out" if on else "refused", origin=listed["origin"] if listed else None)
        if asked.there:
            inside = all_statements(list(self.block)) if self._everybody else ()
            place = next((statement for statement in inside if statement.get("block") is inner), None)
            return Visit("handed-out", origin=place["origin"] if place else None)
        for level in reversed(levels):
            for line in level:
                if (
                    line["directive"] == "error_page"
                    and "404" in line["args"][:-1]
                    and line["args"][-1].startswith("/")
                ):
                    return self._redirected(line["args"][-1], asked, line["origin"])
        return Visit("missing")

    def _rewritten(self, block: Block, asked: Asked) -> "Asked | Visit":
        """The request after the lines of a block that rewrite addresses; or the answer, if one of them gives it."""
        for line in block:
            match line["directive"]:
                case "return":
                    return self._returned(line)
                case "rewrite":
                    after = _replaced(line, asked)
                    self._rewriting = line["origin"] if after else self._rewriting
                    if after and line["args"][2:] == ["last"]:
                        return replace(after, turns=asked.turns + 1) if block is not self.block else after
                    if after and line["args"][2:] == ["break"]:
                        return after
                    asked = after or asked
                case "if" if decides(line.get("block", [])) and holds(line["args"], asked, self.name, self._is_file):
                    if any(inner["directive"].endswith("_pass") for inner in line["block"]):
                        raise Unclear
                    after_if = self._rewritten(line["block"], asked)
                    if isinstance(after_if, Visit) or after_if != asked:
                        return after_if
        return asked

    @staticmethod
    def _returned(line: dict[str, Any]) -> Visit:
        code = line["args"][0] if line["args"] else ""
        if not re.fullmatch(r"[45]\d\d", code):
            raise Unclear
        return Visit("refused", origin=line["origin"])

    def _found(self, block: Block, uri: str) -> tuple[tuple[Block, ...], bool]:
        """The location that a request is in, with those around it; the block itself is left out.

        And whether its whole address or a pattern led there: then no pattern of the blocks around it is tried.
        """
        places = [line for line in block if line["directive"] == "location" and "block" in line and line["args"]]
        best: tuple[int, dict[str, Any] | None, bool] = (-1, None, False)
        for place in places:
            sign, text = place["args"] if len(place["args"]) == 2 else ("", place["args"][0])
            if sign == "=" and text == uri:
                return (place["block"],), True
            if sign in ("", "^~") and not text.startswith("@") and uri.startswith(text) and len(text) > best[0]:
                best = (len(text), place, sign == "^~")
        _, place_of_prefix, last = best
        chain: tuple[Block, ...] = ()
        if place_of_prefix:
            deeper, settled = self._found(place_of_prefix["block"], uri)
            chain = (place_of_prefix["block"], *deeper)
            if settled:
                return chain, True
        for place in () if last else places:
            sign, pattern = place["args"] if len(place["args"]) == 2 else ("", "")
            if sign in ("~", "~*") and matched(pattern, uri, any_case=sign == "~*"):
                return (place["block"], *self._found(place["block"], uri)[0]), True
        return chain, False


def _one(block: Block, name: str) -> dict[str, Any] | None:
    """The last statement of that name."""
    return next((line for line in reversed(block) if line["directive"] == name), None)


def _replaced(line: dict[str, Any], asked: Asked) -> Asked | None:
    """The request after one ``rewrite``; None where its pattern does not match."""
    if len(line["args"]) < 2:
        raise Unclear
    pattern, to, *flags = line["args"]
    match = matched(pattern, asked.uri)
    if not isinstance(match, re.Match):
        return None
    if (flags and flags[0] in ("redirect", "permanent")) or not to.startswith("/"):
        raise Unclear
    path = re.sub(r"\$(\d)", lambda at: match[int(at[1])] or "" if int(at[1]) <= len(match.groups()) else "", to)
    path = path.partition("?")[0]
    if "$" in path:
        raise Unclear
    return Asked(path, asked.there or path.endswith(".php"), asked.turns, inside=True)


def _constant_script(levels: Sequence[Block]) -> str:
    """The one script that a location hands everything to; empty where it hands each to the one asked for."""
    for level in reversed(levels):
        sent = [line["args"] for line in level if line["directive"] == "fastcgi_param" and len(line["args"]) > 1]
        if sent:
            path = next((args[1] for args in sent if args[0] == "SCRIPT_FILENAME"), "")
            match = re.fullmatch(r"\$(?:document_root|realpath_root)(/[^$]+\.php)", path)
            return match[1] if match else ""
    return ""


def _index_of_php(levels: Sequence[Block]) -> str:
    """The name that PHP is told behind the address of a directory; empty where it is told the directory itself."""
    for level in reversed(levels):
        if (line := _one(level, "fastcgi_index")) and line["args"]:
            return str(line["args"][0])
    return ""


def _index(levels: Sequence[Block], is_file: Callable[[str], bool]) -> str:
    """The file that answers for the document root; empty where there is none."""
    root = next((line["args"][0] for level in reversed(levels) if (line := _one(level, "root")) and line["args"]), "")
    for level in reversed(levels):
        if lines := [line for line in level if line["directive"] == "index"]:
            names = [name for line in lines for name in line["args"]]
            break
    else:
        names = ["index.html"]
    for name in names:
        if "$" in name or not root.startswith("/"):
            raise Unclear
        if name.startswith("/") or is_file(f"{root.rstrip('/')}/{name}"):
            return str(name)
    return ""
