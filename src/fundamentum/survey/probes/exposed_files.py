"""What visitors can reach and should not: told by names and modes in the document roots, of which little is read."""

import posixpath
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Final, Literal

from fundamentum.hosts.base import Host, HostError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.application_paths import PUBLIC
from fundamentum.model.surrounding_facts import Exposed, Visit
from fundamentum.webservers import names, webserver

MAX_ENTRIES: Final = 120
"""Entries that are looked at for one site: what this takes grows with sites, not with the size of their trees."""
MAX_ALL: Final = 10_000
"""Entries that are looked at in all document roots together."""
MAX_DEPTH: Final = 3
MAX_PAGE: Final = 4096
"""An information page is a short file; longer ones are not looked into."""
INSTALLERS: Final = lazy_regex(r"(?:_?install(?:er|ation)?|setup|upgrade)(?:\.php)?", re.I)
NOT_FOR_VISITORS: Final = lazy_regex(
    r"\.git|\.svn|\.hg|\.env(?:\..+)?|composer\.(?:json|lock)|vendor|node_modules|.+\.(?:sql|sql\.gz|bak|old|orig|swp)|.+~"
)
ASIDE: Final = frozenset({"vendor", "node_modules", ".git", ".svn", ".hg"})
_PAGE: Final = lazy_regex(rb"^[^/#*]*\bphpinfo\s*\(", re.M)
_TELLING: Final = lazy_regex(r"info|test|check|^i\.|^p\.", re.I)
_SHARED: Final = frozenset({"/var/www", "/usr/share"})
Kind = Literal["world-writable", "information-page", "installer", "not-for-visitors"]


def probe(
    host: Host, roots: Iterable[str], visits: Sequence[tuple[str, Callable[[str], Visit]]] = ()
) -> tuple[Exposed, ...]:
    """One entry for each kind and document root, with the first place and how many more there are.

    What everybody may write to is looked for in the whole application, the rest where visitors reach it: by
    ``visits``, what a site with a document root makes of an address, as far as its web server's rules are followed.
    """
    by_place: dict[tuple[str, Kind], Exposed] = {}
    wanted = list(dict.fromkeys(roots))
    for root in wanted:
        for kind, path in _signs(host, root, min(MAX_ENTRIES, MAX_ALL // len(wanted) + 1)):
            if kind != "world-writable" and _refused(host, path, root, visits):
                continue
            exposed = by_place.get((root, kind))
            others = exposed.others + 1 if exposed else 0
            by_place[root, kind] = Exposed(kind, exposed.path if exposed else path, root, others)
    return tuple(by_place.values())


def _refused(host: Host, path: str, root: str, visits: Sequence[tuple[str, Callable[[str], Visit]]]) -> bool:
    """Whether every site with that document root refuses what lies there, or would not find it."""
    base = root.rstrip("/")
    answers = [visit for at, visit in visits if at == base]
    if not answers or not path.startswith(f"{base}/"):
        return False
    address, about = path.removeprefix(base), host.stat(path)
    question = f"{address}/" if about and about.is_directory else f"={address}"
    return all(visit(question).outcome in ("refused", "missing") for visit in answers)


def shared() -> frozenset[str]:
    """Directories that hold many applications, or none."""
    return _SHARED.union(*(webserver(name).shared_roots for name in names()))


def walked(root: str) -> str:
    """Where to look: the application's directory, if the document root is a part of it, else the root itself."""
    above = posixpath.dirname(root)
    return above if posixpath.basename(root) in PUBLIC and above.count("/") > 1 and above not in shared() else root


def _signs(host: Host, root: str, left: int) -> Iterator[tuple[Kind, str]]:
    start = walked(root)
    if host.resolve(start) != start:
        return  # links are somebody else's
    todo = [(start, 0 if start == root else -1)]
    while todo and left > 0:
        folder, depth = todo.pop(0)
        try:
            entries = host.entries(folder)
        except HostError:
            continue
        for name, about in entries[:left]:
            path = posixpath.join(folder, name)
            left -= 1
            if about is None:
                continue  # links are somebody else's
            if about.mode & 0o002 and not about.mode & 0o1000:
                yield "world-writable", path
            if depth == 0 and NOT_FOR_VISITORS.fullmatch(name):
                yield "not-for-visitors", path
            if depth == 0 and INSTALLERS.fullmatch(name):
                yield "installer", path
            if about.is_directory:
                below = depth + 1 if depth >= 0 or path == root else -1
                far = path.count("/") - start.count("/") >= MAX_DEPTH
                todo += [(path, 0 if path == root else below)] if not far and name not in ASIDE else []
            elif _may_be_page(name, depth) and about.size <= MAX_PAGE and _is_page(host, path):
                yield "information-page", path


def _may_be_page(name: str, depth: int) -> bool:
    """Whether it is worth being looked into: any script at the top, below it those with a telling name."""
    return name.endswith(".php") and (depth == 0 or (depth == 1 and _TELLING.search(name) is not None))


def _is_page(host: Host, path: str) -> bool:
    try:
        return bool(_PAGE.search(host.read(path, MAX_PAGE) or b""))
    except HostError:
        return False
