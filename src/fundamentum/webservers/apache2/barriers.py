"""What in Apache's configuration keeps requests from reaching PHP: it does not listen, refuses, or finds no index file.

Source: Apache's documentation of ``Listen``, of authorization (``Require``, ``AuthMerging``), of mod_access_compat and
of mod_dir; "How the sections are merged".  Told only where it is certain: a rule that depends on who asks stops nobody.
"""

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import Final

from fundamentum.hosts.base import Host
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Barrier
from fundamentum.webservers.apache2.authorization import lets_in
from fundamentum.webservers.apache2.lines import Line
from fundamentum.webservers.apache2.merging import (
    SCRIPT,
    Rank,
    length_of,
    never_counts,
    order_of,
    place_in_site,
    place_of,
)
from fundamentum.webservers.handoffs import PLAIN_PATH, is_file

RULES: Final = frozenset({"require", "authmerging", "allow", "deny", "order", "satisfy"})
INDEX: Final = frozenset({"directoryindex", "fallbackresource", "rewriterule", "redirect", "redirectmatch"})
NAMES: Final = RULES | INDEX
_BROUGHT: Final = ("env", "expr")
_IF: Final = ("if", "elseif", "else")
_CONTAINERS: Final = ("requireall", "requireany", "requirenone", "if", "elseif", "else", "limit", "limitexcept")


def barriers(host: Host, lines: Sequence[Line], root: str | None) -> Iterator[Barrier]:
    """What stops requests for a document root; ``lines`` are those of :data:`NAMES` for its host, in order."""
    if root is None or not root.startswith("/"):
        return
    yield from _refusal([line for line in lines if line.name in RULES], root)
    yield from _index(host, [line for line in lines if line.name in INDEX], root)


def unheard(addresses: str, listens: Sequence[str], origin: Origin | None) -> Iterator[Barrier]:
    """A virtual host at ports at which Apache does not listen."""
    ports = {_port(address) for address in addresses.split()}
    if origin is None or not addresses or not listens or None in ports or "*" in ports:
        return
    if not ports.intersection(_port(listen) or listen for listen in listens):
        port = sorted(filter(None, ports))[0]
        why = f"Apache listens at no port {port}, where this site waits"
        yield Barrier(why, f"write Listen {port} in Apache's main configuration", origin, (f"Listen {port}",), True)


def _port(address: str) -> str | None:
    match = re.search(r":(\d+|\*)$", address)
    return match[1] if match else None


def _in_order(lines: Iterable[Line], root: str) -> list[list[Line]]:
    """The lines that count for the front page, those of one section together, in the order in which they are merged."""
    by_rank: dict[tuple[Rank, int], list[Line]] = {}
    for line in lines:
        if place_in_site(line, root) in ("", SCRIPT) and not never_counts(line):
            place = place_of(line)
            by_rank.setdefault((order_of(line), place.number if place else 0), []).append(line)
    return [by_rank[key] for key in sorted(by_rank, key=lambda key: key[0])]


def _refusal(lines: Sequence[Line], root: str) -> Iterator[Barrier]:
    """The rules of the last section that has any decide; those of one section together."""
    if any(line.name in ("authmerging", "satisfy") for line in lines):
        return
    for names in (("require",), ("allow", "deny", "order")):
        sections = _in_order((line for line in lines if line.name in names), root)
        deciding = sections[-1] if sections else []
        yield from _by_request(deciding)
        if not deciding or any(line.within(*_CONTAINERS) for line in deciding):
            continue
        if place_in_site(deciding[-1], root) == SCRIPT:
            continue  # not all of the site is refused
        words = {(line.name, *(word.lower() for word in line.words[:2])) for line in deciding}
        denied = words == {("require", "all", "denied")} or (
            ("deny", "from", "all") in words and not any(word[0] == "allow" for word in words)
        )
        if denied:
            yield _denied(deciding[-1], root)


def _by_request(deciding: Sequence[Line]) -> Iterator[Barrier]:
    """Rules that hold for some requests, by what they bring along: whether a visitor's is one is not known."""
    asking = [
        line for line in deciding if line.name == "require" and line.words[:1] and line.words[0].lower() in _BROUGHT
    ]
    inside = [line for line in deciding if line.within(*_IF)]
    if (asking and lets_in(deciding) is None) or (inside and lets_in(deciding) is not True):
        line = (asking or inside)[0]
        section = next((section for section in line.inside if section.kind in _IF), None)
        where = f" in <{section.kind.capitalize()} {section.words}>" if section else ""
        written = f"{line.name.capitalize()} {' '.join(line.words)}{where}"
        yield Barrier(
            f"Apache lets in some requests only: {written[:200]}",
            "look whether visitors' are among them",
            line.origin,
            stops=False,
            unsure=True,
        )


def _denied(line: Line, root: str) -> Barrier:
    written = f"{line.name.capitalize()} {' '.join(line.words)}"
    place = place_of(line)
    why = f"Apache refuses all of it: {written}"
    if place and place.kind == "directory" and length_of(place) < len(root) and PLAIN_PATH.fullmatch(root):
        # What closes a whole tree is opened for one directory of it; what closes the site itself was meant.
        passing = ("Require all granted",) if line.name == "require" else ("Order allow,deny", "Allow from all")
        granted = (f'<Directory "{root}">', *(f"    {text}" for text in passing), "</Directory>")
        return Barrier(why, f"write {' and '.join(passing)} for {root}", line.origin, granted)
    return Barrier(why, "take that line out, if visitors are to come", line.origin)


def _index(host: Host, lines: Sequence[Line], root: str) -> Iterator[Barrier]:
    """Whether a request for the directory itself leads to PHP."""
    for_whole_site = (
        line for line in lines if place_in_site(line, root) == "" and not line.within("files", "filesmatch")
    )
    sections = _in_order(for_whole_site, root)
    elsewhere = any(line.name != "directoryindex" for section in sections for line in section)
    if elsewhere or not is_file(host, f"{root.rstrip('/')}/{SCRIPT}"):
        return
    last = sections[-1] if sections else []
    names = [word for line in last for word in line.words] if last else ["index.html"]
    origin = last[-1].origin if last else None
    if "disabled" in names:
        names = []
    for name in names:
        if name.startswith("/") or is_file(host, f"{root.rstrip('/')}/{name}"):
            if not name.endswith(".php") and not name.startswith("/"):
                why = f"a request for / is answered with {name}, which comes before {SCRIPT}"
                yield Barrier(why, f"take {name} away, or write {SCRIPT} first", origin, stops=False)
            return
    why = f"a request for / finds no index file: {SCRIPT} is not among {' '.join(names) or 'those that are looked for'}"
    # The line comes first in the host's section: what stands in a directory's, or empties the list, outdoes it.
    outdone = last and (place_of(last[0]) or (last[0].within("virtualhost") and not names))
    added = () if outdone else (f"DirectoryIndex {SCRIPT}",)
    yield Barrier(why, f"write DirectoryIndex {SCRIPT} for this site", origin, added)
