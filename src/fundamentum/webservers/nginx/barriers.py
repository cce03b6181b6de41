"""What in nginx's configuration keeps requests from reaching PHP: a rule that refuses them, or no index file.

Source: nginx's documentation of its access, index, core (``try_files``) and rewrite modules.  Told only where it is
certain: a rule that depends on who asks stops nobody, and where addresses are rewritten nothing is said of them.
"""

from collections.abc import Iterator, Sequence
from typing import Any, Final

from fundamentum.hosts.base import Host
from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.surrounding_facts import Barrier
from fundamentum.webservers.handoffs import is_file
from fundamentum.webservers.nginx.conditions import wants_header

SCRIPT: Final = "index.php"
_ELSEWHERE: Final = frozenset(
    {
        "rewrite",
        "return",
        "if",
        "proxy_pass",
        "fastcgi_pass",
        "error_page",
        "alias",
        "uwsgi_pass",
        "scgi_pass",
        "include",
    }
)
"""What may answer a request for / in another way."""
Block = Sequence[dict[str, Any]]


def access(block: Block, inherited: tuple[tuple[str, str, Origin], ...]) -> tuple[tuple[str, str, Origin], ...]:
    """The rules of a block, and behind them whether any one is enough; of each, one with none has those around it."""
    out: list[tuple[str, str, Origin]] = []
    for names in (("allow", "deny"), ("satisfy",)):
        own = [
            (statement["directive"], " ".join(statement["args"]), statement["origin"])
            for statement in block
            if statement["directive"] in names
        ]
        out += own or [rule for rule in inherited if rule[0] in names]
    return tuple(out)


def refusal(rules: Sequence[tuple[str, str, Origin]]) -> Iterator[Barrier]:
    """A rule that refuses everybody; where something else may be enough, that is looked at elsewhere."""
    if rules and rules[0][:2] == ("deny", "all") and ("satisfy", "any") not in {rule[:2] for rule in rules}:
        yield Barrier("nginx refuses all of it: deny all", "take that line out, if visitors are to come", rules[0][2])


def returned(block: Block) -> Iterator[Barrier]:
    """A ``return`` that stands beside the handoff, and so answers first."""
    for statement in block:
        if statement["directive"] == "return" and statement["args"]:
            words = " ".join(statement["args"])[:100]
            why = f"nginx answers all of it itself: return {words}"
            yield Barrier(why, "take that line out, if visitors are to come", statement["origin"])
        elif (
            statement["directive"] == "if" and _refuses(statement.get("block", ())) and wants_header(statement["args"])
        ):
            written = " ".join(word or '""' for word in statement["args"])
            why = f"nginx lets in some requests only: if {written}"[:200]
            remedy = "look whether visitors' are among them"
            yield Barrier(why, remedy, statement["origin"], stops=False, unsure=True)


def _refuses(block: Block) -> bool:
    """Whether requests that come here are answered with an error."""
    return any(line["directive"] == "return" and line["args"] and line["args"][0][:1] in ("4", "5") for line in block)


def index(host: Host, server: Block, root: str | None, inherited: tuple[list[str], Origin]) -> Iterator[Barrier]:
    """Whether a request for the directory itself leads to PHP; ``inherited`` is the index list around the server."""
    for words in (["=", "/"], ["^~", "/"], ["/"]):
        front = next(
            (
                statement["block"]
                for statement in server
                if statement["directive"] == "location" and statement["args"] == words
            ),
            None,
        )
        if front is not None:
            break
    own = next(
        (statement["args"][0] for statement in front or () if statement["directive"] == "root" and statement["args"]),
        root,
    )
    folder = (own or "").rstrip("/")
    if not folder.startswith("/") or "$" in folder or not is_file(host, f"{folder}/{SCRIPT}"):
        return
    blocks = (server, front if front is not None else ())
    if any(statement["directive"] in _ELSEWHERE for block in blocks for statement in block):
        return
    tried = next(
        (
            statement
            for block in reversed(blocks)
            for statement in block
            if statement["directive"] == "try_files" and statement["args"]
        ),
        None,
    )
    if tried and "$uri/" not in tried["args"][:-1]:
        if (last := tried["args"][-1]).startswith("="):
            why = f"a request for / is answered with {last[1:]}: try_files looks for no directory"
            yield Barrier(why, f"write /{SCRIPT} in the place of {last}", tried["origin"])
        return
    names, origin = inherited
    of_front = False
    for block in blocks:
        if listed := [statement for statement in block if statement["directive"] == "index" and statement["args"]]:
            names, origin = [word for statement in listed for word in statement["args"]], listed[-1]["origin"]
            of_front = block is front
    yield from _of_names(host, folder, names, origin, of_front)


def _of_names(host: Host, folder: str, names: list[str], origin: Origin, of_front: bool) -> Iterator[Barrier]:
    for name in names:
        if name.startswith("/") or "$" in name:
            return
        if is_file(host, f"{folder}/{name}"):
            if not name.endswith(".php"):
                why = f"a request for / is answered with {name}, which comes before {SCRIPT}"
                yield Barrier(why, f"take {name} away, or write {SCRIPT} first", origin, stops=False)
            return
    why = f"a request for / finds no index file: {SCRIPT} is not among {' '.join(names)[:200]}"
    remedy = f"write index {SCRIPT}; where this site is set up"
    lines = () if of_front else (f"index {SCRIPT};",)
    yield Barrier(why, remedy, None if origin == BUILT_IN else origin, lines)
