"""What nginx's configuration makes of an address of a server.

Source: nginx's documentation of its core (``location``, ``try_files``, ``error_page``, ``internal``), rewrite, access,
autoindex and FastCGI modules.  A visitor is nobody in particular: he asks by the site's own name, from anywhere, for a
page and no more.  What depends on more than that, or is not followed here, makes it unclear.
"""

import re
from collections.abc import Sequence
from typing import Any, Final

from msgspec.structs import replace

from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Visit
from fundamentum.webservers.nginx.barriers import access
from fundamentum.webservers.visit_questions import MAX_TURNS, Asked, Unclear, answer, matched

_ABOUT_VISITOR: Final = lazy_regex(
    r"\$(?:host|scheme|https|server_\w+|request_method|remote_\w+|http_\w+|args?|arg_\w+|query_string|cookie_\w+)\b"
)
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
Block = Sequence[dict[str, Any]]


class Answers:
    """One server's block, with what surrounds it."""

    def __init__(self, block: Block, around: Sequence[Block]) -> None:
        self.block, self.around = block, around

    def visit(self, question: str) -> Visit:
        """What comes of an address, as :attr:`~fundamentum.model.survey.Site.visits` has it."""
        return answer(question, self._asked_for)

    def _asked_for(self, asked: Asked) -> Visit:
        if asked.turns > MAX_TURNS:
            raise Unclear
        if asked.turns == 0:
            first = self._rewritten(self.block, asked)
            if isinstance(first, Visit):
                return first
            asked = first
        chain = self._found(self.block, asked.uri)
        return self._in_location(chain, asked)

    def _in_location(self, chain: tuple[Block, ...], asked: Asked) -> Visit:
        inner = chain[-1] if chain else self.block
        if chain:
            after = self._rewritten(inner, asked)
            if isinstance(after, Visit):
                return after
            if after.turns > asked.turns:
                return self._asked_for(after)
            asked = after
        if asked.turns == 0 and (line := _one(inner, "internal")):
            return Visit("refused", origin=line["origin"])
        levels = (*self.around, self.block, *chain)
        rules: tuple[tuple[str, str, Origin], ...] = ()
        for level in levels:
            rules = access(level, rules)
        deciding = next((rule for rule in rules if rule[1] == "all"), None)  # the first that fits a visitor counts
        if deciding and deciding[0] == "deny":
            if any(name == "satisfy" for name, _, _ in rules):
                raise Unclear
            return Visit("refused", origin=deciding[2])
        if any(
            statement["directive"] in _ELSEWHERE and statement["args"] != ["off"]
            for level in chain
            for statement in level
        ):
            raise Unclear
        if files := _one(inner, "try_files"):
            return self._tried(files, inner, levels, asked)
        return self._content(inner, levels, asked)

    def _tried(self, files: dict[str, Any], inner: Block, levels: Sequence[Block], asked: Asked) -> Visit:
        *names, last = files["args"]
        own = {"$uri", "$fastcgi_script_name", "$document_uri"}
        if any("$" in name and name.rstrip("/") not in own for name in names):
            raise Unclear
        here = {name.rstrip("/") if name == "$uri/" and asked.uri.endswith("/") else name for name in names} & own
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
        found = self._asked_for(Asked(path, True, asked.turns + 1))
        return replace(found, origin=origin) if found.outcome == "script" else found

    def _content(self, inner: Block, levels: Sequence[Block], asked: Asked) -> Visit:
        if passed := _one(inner, "fastcgi_pass"):
            script = _constant_script(levels) or re.sub(r"(\.php)/.*", r"\1", asked.uri)
            there = asked.there or bool(_constant_script(levels))
            return Visit("script" if there else "missing", script if there else "", passed["origin"])
        if asked.uri.endswith("/") and asked.there:
            listed = next((line for level in reversed(levels) if (line := _one(level, "autoindex"))), None)
            on = listed is not None and listed["args"] == ["on"]
            return Visit("handed-out" if on else "refused", origin=listed["origin"] if listed else None)
        if asked.there:
            return Visit("handed-out")
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
                    if after and line["args"][2:] == ["last"]:
                        return replace(after, turns=asked.turns + 1) if block is not self.block else after
                    if after and line["args"][2:] == ["break"]:
                        return after
                    asked = after or asked
                case "if" if _decides(line["block"]) and _holds(line["args"], asked):
                    after_if = self._rewritten(line["block"], asked)
                    if isinstance(after_if, Visit) or after_if != asked:
                        return after_if
        return asked

    @staticmethod
    def _returned(line: dict[str, Any]) -> Visit:
        code = line["args"][0] if line["args"] else ""
        if not re.fullmatch(r"4\d\d", code):
            raise Unclear
        return Visit("refused", origin=line["origin"])

    def _found(self, block: Block, uri: str) -> tuple[Block, ...]:
        """The location that a request is in, with those around it; the block itself is left out."""
        places = [line for line in block if line["directive"] == "location" and "block" in line]
        best: tuple[int, dict[str, Any] | None, bool] = (-1, None, False)
        for place in places:
            sign, text = place["args"] if len(place["args"]) == 2 else ("", place["args"][0])
            if sign == "=" and text == uri:
                return (place["block"],)
            if sign in ("", "^~") and not text.startswith("@") and uri.startswith(text) and len(text) > best[0]:
                best = (len(text), place, sign == "^~")
        _, place_of_prefix, last = best
        deeper = self._found(place_of_prefix["block"], uri) if place_of_prefix else ()
        if deeper or last:
            return (place_of_prefix["block"], *deeper) if place_of_prefix else ()
        for place in places:
            sign, pattern = place["args"] if len(place["args"]) == 2 else ("", "")
            if sign in ("~", "~*") and matched(pattern, uri, any_case=sign == "~*"):
                return (place["block"], *self._found(place["block"], uri))
        return (place_of_prefix["block"],) if place_of_prefix else ()


def _decides(block: Block) -> bool:
    """Whether the block of an ``if`` changes what comes of a request."""
    return any(
        line["directive"] in ("return", "rewrite", "break") or line["directive"].endswith("_pass") for line in block
    )


def _one(block: Block, name: str) -> dict[str, Any] | None:
    """The last statement of that name."""
    return next((line for line in reversed(block) if line["directive"] == name), None)


def _replaced(line: dict[str, Any], asked: Asked) -> Asked | None:
    """The request after one ``rewrite``; None where its pattern does not match."""
    pattern, to, *flags = line["args"]
    found = matched(pattern, asked.uri)
    if not isinstance(found, re.Match):
        return None
    if (flags and flags[0] in ("redirect", "permanent")) or not to.startswith("/"):
        raise Unclear
    path = re.sub(r"\$(\d)", lambda at: found[int(at[1])] or "" if int(at[1]) <= len(found.groups()) else "", to)
    path = path.partition("?")[0]
    if "$" in path:
        raise Unclear
    return Asked(path, asked.there or path.endswith(".php"), asked.turns)


def _holds(args: Sequence[str], asked: Asked) -> bool:
    """Whether the condition of an ``if`` holds for such a visitor."""
    words = [word for word in re.sub(r"^\(|\)$", "", " ".join(args)).split(" ") if word] or [""]
    if match := re.match(r"(!?)-[fde]$", words[0]):
        if len(words) != 2 or words[1] not in (
            "$request_filename",
            "$document_root$uri",
            "$document_root$fastcgi_script_name",
        ):
            raise Unclear
        return asked.there != bool(match[1])
    if (
        words[0] in ("$uri", "$request_uri", "$document_uri")
        and len(words) == 3
        and words[1].lstrip("!") in ("~", "~*")
    ):
        found = bool(matched(words[2], asked.uri, any_case=words[1].endswith("*")))
        return found != words[1].startswith("!")
    if _ABOUT_VISITOR.match(words[0]):
        return False
    raise Unclear


def _constant_script(levels: Sequence[Block]) -> str:
    """The one script that a location hands everything to; empty where it hands each to the one asked for."""
    for level in reversed(levels):
        sent = [line["args"] for line in level if line["directive"] == "fastcgi_param" and len(line["args"]) > 1]
        if sent:
            path = next((args[1] for args in sent if args[0] == "SCRIPT_FILENAME"), "")
            match = re.fullmatch(r"\$(?:document_root|realpath_root)(/[^$]+\.php)", path)
            return match[1] if match else ""
    return ""
