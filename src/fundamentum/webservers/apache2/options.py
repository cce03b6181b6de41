"""Which ``Options`` are in effect for a site's scripts, and what Apache refuses where one is not.

Source: Apache's documentation of ``Options``, of mod_rewrite ("Per-directory Rewrites") and of mod_fcgid; asked of real
servers (``tests/real/test_access_files.py``, ``tests/real/test_cgi.py``).
"""

from collections.abc import Iterator, Sequence
from typing import Final

from fundamentum.hosts.base import Host
from fundamentum.model.surrounding_facts import Barrier
from fundamentum.webservers.apache2.handlers import depends
from fundamentum.webservers.apache2.lines import Line
from fundamentum.webservers.apache2.merging import SCRIPT, length_of, place_of, rank
from fundamentum.webservers.handoffs import PLAIN_PATH
from fundamentum.webservers.visit_questions import Unclear

_BUILT_IN: Final = frozenset({"followsymlinks"})
_ALL: Final = frozenset({"indexes", "includes", "followsymlinks", "execcgi"})
LINKS: Final = frozenset({"followsymlinks", "symlinksifownermatch"})


class Options:
    """Those of a site's front page."""

    on: frozenset[str]
    """In lower case."""
    last: Line | None
    """The line that decides; None: it is built in."""

    def __init__(self, lines: Sequence[Line], root: str) -> None:
        """``lines`` are those of the site's host, the main server's first.

        Raises :class:`~fundamentum.webservers.visit_questions.Unclear` where a request decides.
        """
        self.root = root.rstrip("/")
        self.on, self.last = _BUILT_IN, None
        counting = [line for line in lines if line.name == "options"]
        ranked = [(at, line) for line in counting if (at := rank(line, f"/{SCRIPT}", self.root)) is not None]
        for _, line in sorted(ranked, key=lambda pair: pair[0]):
            if depends(line):
                raise Unclear
            self._by(line)

    def _by(self, line: Line) -> None:
        words = [word.lower() for word in line.words]
        plain = {word for word in words if word[:1] not in "+-"}
        if plain:
            self.on = (_ALL if "all" in plain else frozenset()) | (plain - {"all", "none"})
        self.on |= {word[1:] for word in words if word.startswith("+")}
        self.on -= {word[1:] for word in words if word.startswith("-")}
        self.last = line

    def barrier(self, why: str, option: str) -> Barrier:
        """What is stopped as an option is not on, with the lines that switch it on for the site alone."""
        place = place_of(self.last) if self.last else None
        general = place is None or (place.kind == "directory" and length_of(place) < len(self.root))
        plain = general and PLAIN_PATH.fullmatch(self.root)
        lines = (f'<Directory "{self.root}">', f"    Options +{option}", "</Directory>") if plain else ()
        remedy = f"write Options +{option} for {self.root}"
        return Barrier(why, remedy, self.last.origin if self.last else None, lines)


def kept_from_links(host: Host, lines: Sequence[Line], root: str) -> Iterator[Barrier]:
    """Apache refuses what lies behind a link in a directory where it may follow none; the site's script may be one."""
    by_directory = [line for line in lines if not line.within("files", "filesmatch", "location", "locationmatch")]
    parts = [*root.strip("/").split("/"), SCRIPT]
    folder = ""
    for name in parts:
        path = f"{folder}/{name}"
        real, above = host.resolve(path), host.resolve(folder or "/")
        if real and above and real != f"{above.rstrip('/')}/{name}":
            options = Options(by_directory, folder or "/")
            if LINKS.isdisjoint(options.on):
                why = f"Apache does not follow the link {path}, as Options of {folder or '/'} have no FollowSymLinks"
                origin = options.last.origin if options.last else None
                yield Barrier(why, f"write Options +FollowSymLinks for {folder or '/'}", origin)
                return
        folder = path


def kept_from_rewriting(lines: Sequence[Line], root: str) -> Iterator[Barrier]:
    """mod_rewrite refuses every request for a directory with rules of its own where no link may be followed."""
    if not root.startswith("/"):
        return
    own = [line for line in lines if line.name in ("rewriteengine", "rewriterule") and place_of(line)]
    ranked = [(at, line) for line in own if (at := rank(line, f"/{SCRIPT}", root.rstrip("/"))) is not None]
    switches = [line for _, line in sorted(ranked, key=lambda pair: pair[0]) if line.name == "rewriteengine"]
    if not switches or [word.lower() for word in switches[-1].words] != ["on"] or depends(switches[-1]):
        return
    options = Options(lines, root)
    if LINKS.isdisjoint(options.on):
        yield options.barrier("Apache refuses all of it: rewriting needs Options FollowSymLinks", "FollowSymLinks")
