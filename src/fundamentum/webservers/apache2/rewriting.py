"""Rules of Apache's mod_rewrite, tried on an address.  Source: Apache's documentation of mod_rewrite."""

import re
from collections.abc import Sequence
from typing import Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.surrounding_facts import Visit
from fundamentum.webservers.apache2.lines import Line
from fundamentum.webservers.visit_questions import Asked, Unclear, matched

_NAMED: Final = (
    "%{REQUEST_FILENAME}",
    "%{SCRIPT_FILENAME}",
    "%{DOCUMENT_ROOT}%{REQUEST_URI}",
    "%{DOCUMENT_ROOT}/%{REQUEST_URI}",
)
_OF_VISITOR: Final = lazy_regex(
    r"%\{(?:HTTP_\w+|HTTP:[\w-]+|HTTPS|REQUEST_METHOD|REQUEST_SCHEME|QUERY_STRING|REMOTE_\w+|SERVER_\w+|TIME\w*|THE_REQUEST)\}"
)


def rewritten(lines: Sequence[Line], asked: Asked, folder: str, root: str) -> "Asked | Visit":
    """The request after the rules of one place; or the answer, if one of them gives it.

    ``folder`` is the directory whose rules they are, which see the path below it; empty: those of the host.
    """
    conditions: list[Line] = []
    on, base = False, None
    for line in lines:
        match line.name:
            case "rewriteengine":
                on = line.words[:1] != () and line.words[0].lower() == "on"
            case "rewritebase" if line.words:
                base = line.words[0]
            case "rewriteoptions" if line.words != ("IgnoreInherit",) and any("nherit" in word for word in line.words):
                raise Unclear
    if not on:
        return asked
    if any(line.name == "rewriterule" and len(line.words) < 2 for line in lines):
        raise Unclear  # as recordings have it
    prefix = _address_of(folder, root) if folder else ""
    for line in lines:
        if line.name == "rewritecond":
            conditions.append(line)
        elif line.name == "rewriterule" and len(line.words) > 1:
            mine, conditions = conditions, []
            after, last = _rule(line, mine, asked, prefix if folder else None, base or prefix)
            if isinstance(after, Visit):
                return after
            asked = after
            if last:
                break
    return asked


def passes_through(line: Line) -> bool:
    """Whether what a rule makes of an address is seen by aliases and proxies, too."""
    flags = re.sub(r"^\[|\]$", "", line.words[-1]).upper().split(",") if line.words else []
    return line.name == "rewriterule" and not {"PT", "PASSTHROUGH"}.isdisjoint(flag.strip() for flag in flags)


def _address_of(folder: str, root: str) -> str:
    """A directory as visitors ask for it, with a slash at its end."""
    if folder == root or not folder.startswith(f"{root}/"):
        return "/"
    return f"{folder.removeprefix(root)}/"


def _rule(
    line: Line, conditions: Sequence[Line], asked: Asked, prefix: str | None, base: str
) -> tuple["Asked | Visit", bool]:
    """The request after one rule, and whether it is the last one."""
    pattern, to, *options = line.words
    flags = [flag.strip() for flag in re.sub(r"^\[|\]$", "", " ".join(options)).split(",")] if options else []
    names = {flag.partition("=")[0].upper() for flag in flags}
    seen = asked.uri.removeprefix(prefix) if prefix is not None else asked.uri
    match = matched(pattern.removeprefix("!"), seen, any_case="NC" in names or "NOCASE" in names)
    leaves = bool(names & {"R", "REDIRECT", "F", "FORBIDDEN", "G", "GONE"})
    if bool(match) == pattern.startswith("!") or not _all_hold(conditions, asked, leaves or to == "-"):
        return asked, False
    if names & {"F", "FORBIDDEN", "G", "GONE"}:
        return Visit("refused", origin=line.origin), True
    last = bool(names & {"L", "LAST", "END", "PT", "PASSTHROUGH"})
    status = next((flag.partition("=")[2] for flag in flags if flag.upper().startswith(("R=", "REDIRECT="))), "")
    if re.fullmatch(r"[45]\d\d", status):
        return Visit("refused", origin=line.origin), True
    if names & {"R", "REDIRECT", "P", "PROXY", "S", "SKIP", "C", "CHAIN", "N", "NEXT", "H", "HANDLER"} or "://" in to:
        raise Unclear
    if to == "-":
        return asked, last
    return _to(to, match, asked, base), last


def _to(to: str, match: "re.Match[str] | bool", asked: Asked, base: str) -> Asked:
    def group(at: "re.Match[str]") -> str:
        number = int(at[1])
        return (match[number] or "") if isinstance(match, re.Match) and number <= len(match.groups()) else ""

    path = re.sub(r"\$(\d)", group, to.partition("?")[0])
    if "%" in path or "$" in path:
        raise Unclear
    path = path if path.startswith("/") else f"{base.rstrip('/')}/{path}"
    return Asked(path, asked.there or path.endswith(".php"), asked.turns)


def _all_hold(conditions: Sequence[Line], asked: Asked, leaves: bool) -> bool:
    """Whether the conditions of a rule hold.  ``leaves``: it sends the visitor away, or changes no address.

    Rules that send away some visitors, by who they are, do not send away this one.
    """
    either = False
    for line in conditions:
        flags = re.sub(r"^\[|\]$", "", " ".join(line.words[2:])).upper().split(",") if len(line.words) > 2 else []
        either = either or _holds(line, asked, leaves, any_case="NC" in flags)
        if "OR" in flags or "ORNEXT" in flags:
            continue
        if not either:
            return False
        either = False
    return True


def _holds(line: Line, asked: Asked, leaves: bool, *, any_case: bool) -> bool:
    if len(line.words) < 2:
        raise Unclear
    of, test = line.words[0], line.words[1]
    negated, plain = test.startswith("!"), test.removeprefix("!")
    if plain in ("-f", "-d", "-l", "-s", "-F", "-e"):
        if of not in _NAMED:
            raise Unclear
        folder = asked.uri.endswith("/")
        kind = {"-d": folder, "-l": False}.get(plain, not folder)
        return (asked.there and kind) != negated
    if of in ("%{REQUEST_URI}", "%{REQUEST_FILENAME}", "$0"):
        return bool(matched(plain, asked.uri, any_case=any_case)) != negated
    if of.startswith("%{ENV:REDIRECT_"):
        return bool(matched(plain, "200" if asked.turns else "")) != negated
    if _OF_VISITOR.search(of) and leaves:
        return False
    raise Unclear
