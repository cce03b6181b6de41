"""What Apache's configuration makes of an address of a host.

Source: Apache's documentation, "How the sections are merged", of authorization, mod_access_compat, mod_alias, mod_dir,
mod_autoindex and core (``ErrorDocument``).  A visitor is nobody in particular: he asks by the site's own name, from
anywhere, for a page and no more.  What depends on more than that, or is not followed here, makes it unclear.
"""

import posixpath
import re
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import suppress
from typing import Final

from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Barrier, Visit
from fundamentum.webservers.apache2 import rewriting
from fundamentum.webservers.apache2.authorization import SOMEWHERE, for_pages, lets_in
from fundamentum.webservers.apache2.handlers import EXCEPTED
from fundamentum.webservers.apache2.lines import MACRO, Line
from fundamentum.webservers.apache2.merging import SCRIPT, Rank, is_below, is_pattern, place_of, rank
from fundamentum.webservers.visit_questions import MAX_TURNS, Asked, Unclear, answer, barred, matched

RULES: Final = frozenset({"require", "authmerging", "allow", "deny", "order", "satisfy"})
REWRITING: Final = frozenset({"rewriteengine", "rewritebase", "rewritecond", "rewriterule", "rewriteoptions"})
NAMES: Final = (
    RULES
    | REWRITING
    | {
        *("options", "directoryindex", "fallbackresource", "errordocument"),
        *("alias", "aliasmatch", "scriptalias", "scriptaliasmatch"),
        *("redirect", "redirectmatch", "use", MACRO, "proxypass", "proxypassmatch"),
    }
)
"""The directives that have a say."""
_DEPENDS: Final = ("if", "elseif", "else", "ifversion", "ifdirective", "ifsection")
"""Sections of which a request decides whether they count, or something else that is not known here."""
_OF_FILES: Final = ("directory", "directorymatch", "files", "filesmatch")
"""Sections that count for files, and not for what is passed on by its address."""
_ALIASES: Final = frozenset({"redirect", "redirectmatch", "alias", "aliasmatch", "scriptalias", "scriptaliasmatch"})
_LEADING_ON: Final = frozenset({"proxypass", "proxypassmatch"})
"""What leads requests on, and changes no address."""


class Answers:
    """One host's lines of :data:`NAMES`: those of the main server first, those of files in directories last."""

    def __init__(self, lines: Sequence[Line], root: str | None, modules: Collection[str]) -> None:
        self.lines, self.root, self.modules = lines, (root or "").rstrip("/"), modules
        self._is_file: Callable[[str], bool] | None = None
        self._let_in = self._everybody = False
        """Whether the visitor is let in, whatever rules there are; whether only rules for everybody keep him out."""
        self._rewriting: Origin | None = None
        """The last line of the directory whose rules led an address elsewhere last."""
        self.rewritten = False
        """Whether the host's own rules have led the last address elsewhere, so that nothing is passed on by it."""

    def visit(self, question: str) -> Visit:
        """What comes of an address, as :attr:`~fundamentum.model.survey.Site.visits` has it."""
        if not self.root.startswith("/") or any(line.name in ("use", MACRO) for line in self.lines):
            return Visit("unclear")
        return answer(question, self._asked_for)

    def first_page(self, is_file: Callable[[str], bool]) -> str | None:
        """The address of the script that answers a visitor's first request, who is let in; None: it is not followed.

        It is for ``/``; where no script answers that, for ``/index.php``.  ``is_file`` tells whether a path is a file.
        """
        if any(line.name in ("use", MACRO) for line in self.lines):
            return None
        for_whole_site = [
            line for line in self.lines if line.name == "alias" and line.words[:1] and line.words[0].rstrip("/") == ""
        ]
        lines = [line for line in self.lines if line.name not in _LEADING_ON and line not in for_whole_site]
        of = Answers(lines, self.root, self.modules)
        of._is_file, of._let_in = is_file, True
        for uri in ("/", f"/{SCRIPT}"):
            with suppress(Unclear, RecursionError):
                visit = of._asked_for(Asked(uri, True))
                if visit.outcome == "script":
                    self.rewritten = of.rewritten
                    return visit.script
        return None if any(line.name in REWRITING for line in of.lines) else f"/{SCRIPT}"

    def barred(self, is_file: Callable[[str], bool]) -> Iterator[Barrier]:
        """What keeps every visitor from the site's first page; ``is_file`` tells whether a path is a file."""
        of = Answers(self.lines, self.root, self.modules)
        of._is_file, of._everybody = is_file, True
        if not any(line.name in ("use", MACRO, "errordocument") for line in self.lines):
            yield from barred("Apache", f"/{SCRIPT}", of._asked_for)

    def _asked_for(self, asked: Asked) -> Visit:
        if asked.turns > MAX_TURNS:  # such a request is answered with an error.  Source: LimitInternalRecursion
            if self._rewriting is None:
                raise Unclear
            return Visit("refused", origin=self._rewriting)
        of_host = [line for line in self.lines if line.name in REWRITING and place_of(line) is None]
        # A host has none of the main server's rules.  Source: mod_rewrite, RewriteOptions.
        own = [line for line in of_host if line.within("virtualhost")] or of_host
        first = self._rewritten(own, asked, "")
        if isinstance(first, Visit):
            return first
        # What these rules rewrite, aliases and proxies do not see any more.  Source: mod_rewrite, the flag PT.
        self.rewritten = first.uri != asked.uri and not any(map(rewriting.passes_through, own))
        asked = Asked(first.uri, first.there, asked.turns, address=asked.uri)
        if not self.rewritten and (redirected := self._redirected(asked)):
            return redirected
        if not self._let_in and (refused := self._refused(asked)):
            return refused
        inner, folder = self._innermost(asked)
        after = self._rewritten(inner, asked, folder)
        if isinstance(after, Visit):
            return after
        if after.uri != asked.uri:
            self._rewriting = inner[-1].origin
            return self._asked_for(Asked(after.uri, after.there, asked.turns + 1))
        return self._content(asked)

    def _rewritten(self, lines: Sequence[Line], asked: Asked, folder: str) -> "Asked | Visit":
        if not lines or "rewrite_module" not in self.modules:
            return asked
        return rewriting.rewritten(lines, asked, folder, self.root)

    def _redirected(self, asked: Asked) -> Visit | None:
        """Lines of mod_alias and of proxies that are for this address; of the latter the first one counts."""
        excepted = False
        for line in self._counting(_ALIASES | _LEADING_ON, asked):
            words = list(line.words)
            coded = line.name.startswith("redirect") and words and re.fullmatch(r"\d{3}|[a-z]+", words[0])
            status = words.pop(0) if coded else ""
            if not _is_for(line, words, asked.uri):
                continue
            if status in ("gone", *(str(code) for code in range(400, 600))):
                return Visit("refused", origin=line.origin)
            if line.name not in _LEADING_ON:
                raise Unclear
            excepted = excepted or EXCEPTED in words
            if not excepted:
                return self._passed_on(words, asked)
        return None

    def _passed_on(self, words: Sequence[str], asked: Asked) -> Visit:
        """A request passed to PHP by its address: it is for no file, so that rules for directories do not count."""
        if not any("fcgi://" in word for word in words):
            raise Unclear
        by_address = Answers([line for line in self.lines if not line.within(*_OF_FILES)], self.root, self.modules)
        by_address._everybody = self._everybody
        refused = None if self._let_in else by_address._refused(asked)
        return refused or Visit("script", asked.uri)

    def _refused(self, asked: Asked) -> Visit | None:
        """Who may ask: the rules of the last section that has any decide."""
        # Then either kind of rule lets in.  Source: mod_access_compat, Satisfy.
        if any([word.lower() for word in line.words] != ["all"] for line in self._counting({"satisfy"}, asked)):
            raise Unclear
        for names in ({"require", "authmerging"}, {"allow", "deny", "order"}):
            lines = for_pages(self._counting(names, asked))
            deciding = [line for line in lines if place_of(line) == place_of(lines[-1])] if lines else []
            if not deciding:
                continue
            if any(line.within(*_DEPENDS) or line.name == "authmerging" for line in deciding):
                raise Unclear
            required = any(line.name == "require" for line in deciding)
            if self._everybody and any(_is_about_place(line) for line in deciding):
                return None
            if _kept_out(deciding) if required else _denied(deciding):
                return Visit("refused", origin=deciding[-1].origin)
        return None

    def _innermost(self, asked: Asked) -> tuple[list[Line], str]:
        """The rules of the innermost directory that has any, which hide those around it; and that directory."""
        lines = [line for line in self._counting(REWRITING, asked) if place_of(line) is not None]
        if not lines:
            return [], ""
        place = place_of(lines[-1])
        if place is None or place.kind != "directory" or is_pattern(place):
            raise Unclear
        return [line for line in lines if place_of(line) == place], place.words.rstrip("/")

    def _content(self, asked: Asked) -> Visit:
        if asked.there and asked.uri.endswith(".php"):
            return Visit("script", asked.uri)
        if asked.there and not asked.uri.endswith("/"):
            return Visit("handed-out")
        index = self._last({"directoryindex"}, asked) if asked.there else None
        elsewhere = [word for word in index.words if word.startswith("/")] if index else []
        if index and elsewhere:
            return Visit("script", elsewhere[0], index.origin)
        if self._is_file and asked.there and (name := self._index_file(asked, self._is_file)):
            return self._asked_for(Asked(f"{asked.uri}{name}", True, asked.turns))
        fallback = self._last({"fallbackresource"}, asked)
        if fallback and fallback.words[:1] != ("disabled",):
            return self._instead(fallback.words[0] if fallback.words else "", asked, fallback.origin)
        if asked.there:
            return self._listed(asked)
        for line in reversed(self._counting({"errordocument"}, asked)):
            if line.words[:1] == ("404",) and len(line.words) > 1 and line.words[1].startswith("/"):
                return self._instead(line.words[1], asked, line.origin)
        return Visit("missing")

    def _index_file(self, asked: Asked, is_file: Callable[[str], bool]) -> str:
        """The file that answers for a directory; empty where there is none."""
        lines = self._counting({"directoryindex"}, asked)
        last = [line for line in lines if line.inside == lines[-1].inside]
        names = [name for line in last for name in line.words] or ["index.html"]
        return next((name for name in names if is_file(f"{self.root}{asked.uri}{name}")), "")

    def _instead(self, uri: str, asked: Asked, origin: Origin) -> Visit:
        if not uri.startswith("/"):
            raise Unclear
        visit = self._asked_for(Asked(uri.partition("?")[0], True, asked.turns + 1))
        return Visit(visit.outcome, visit.script, origin) if visit.outcome == "script" else visit

    def _listed(self, asked: Asked) -> Visit:
        """Whether a list of the directory is made."""
        on: bool | None = False
        origin = None
        for line in self._counting({"options"}, asked):
            words = [word.lower() for word in line.words]
            if line.within("if", "elseif", "else", "ifversion"):
                on = None
            elif not any(word[:1] in "+-" for word in words):
                on, origin = "indexes" in words or "all" in words, line.origin
            elif "+indexes" in words or "-indexes" in words:
                on, origin = "+indexes" in words, line.origin
        if on is None:
            raise Unclear
        return Visit("handed-out" if on and "autoindex_module" in self.modules else "refused", origin=origin)

    def _last(self, names: Collection[str], asked: Asked) -> Line | None:
        return next(reversed(self._counting(names, asked)), None)

    def _counting(self, names: Collection[str], asked: Asked) -> list[Line]:
        """The lines of these names that count for an address, in the order in which sections are merged."""
        ranked: list[tuple[Rank, Line]] = []
        folder = self.root + posixpath.dirname(asked.uri)
        for line in self.lines:
            if line.name in names and (ranked_as := rank(line, asked.uri, folder, asked.address)) is not None:
                ranked.append((ranked_as, line))
        return [line for _, line in sorted(ranked, key=lambda pair: pair[0])]


def _is_for(line: Line, words: Sequence[str], uri: str) -> bool:
    """Whether a line of mod_alias or of a proxy is for an address; in a section for addresses, that has been asked."""
    if line.within("location", "locationmatch"):
        return True
    first = words[0] if words else ""
    return bool(matched(first, uri)) if line.name.endswith("match") else is_below(uri, first)


def _is_about_place(line: Line) -> bool:
    """Whether a rule is for visitors from certain places."""
    words = [word.lower() for word in line.words]
    return (line.name == "require" and words[:1] != ["all"] and words[:1] and words[0] in SOMEWHERE) or (
        line.name in ("allow", "deny") and words[:2] != ["from", "all"]
    )


def _kept_out(lines: Sequence[Line]) -> bool:
    """Whether ``Require`` lines refuse a visitor from anywhere."""
    let_in = lets_in(lines)
    if let_in is None:
        raise Unclear
    return not let_in


def _denied(lines: Sequence[Line]) -> bool:
    """Whether ``Deny`` lines refuse a visitor from anywhere."""
    denied, allowed = (
        any(line.name == name and tuple(word.lower() for word in line.words[:2]) == ("from", "all") for line in lines)
        for name in ("deny", "allow")
    )
    if denied and allowed:
        raise Unclear
    return denied
