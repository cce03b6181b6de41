"""Which script nginx tells PHP to run for a visitor's first request, and whether PHP can do so.

Source: nginx's documentation of ``fastcgi_param`` (a block with any of its own inherits none) and of ``root``; that PHP
answers with nothing where it is told no method, and with an error where it is told no script, was asked of real pools
(``tests/real/test_told_script.py``).
"""

from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import Any, Final

from fundamentum.hosts.base import Host, text_or_none
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Barrier, Spot
from fundamentum.webservers.handoffs import PLAIN_PATH, Handoff, is_file
from fundamentum.webservers.nginx.scope import Scope
from fundamentum.webservers.nginx.variables import filled

SCRIPT: Final = "SCRIPT_FILENAME"
FRONT: Final = "index.php"
_PARAMETER: Final = f"fastcgi_param {SCRIPT} $document_root$fastcgi_script_name;"
_WHOLE: Final = "/etc/nginx/fastcgi.conf"
"""A file with all parameters that PHP needs, as packages of nginx bring it."""
_INDEX: Final = "fastcgi_index index.php;"
_USUAL: Final = (_WHOLE, "/etc/nginx/fastcgi_params", "/usr/local/nginx/conf/fastcgi_params")
_ELSEWHERE: Final = frozenset(
    {"rewrite", "return", "if", "error_page", "include", "fastcgi_pass", "proxy_pass", "alias"}
)
"""What may answer a request for / in another way."""
_ADDRESSES: Final = ("$fastcgi_script_name", "$uri", "$document_uri")


def root_beside(server: Sequence[dict[str, Any]]) -> str | None:
    """The root of a server's ``location /``."""
    inner = (
        statement["block"]
        for statement in server
        if statement["directive"] == "location" and statement["args"][-1:] == ["/"]
    )
    roots = (line["args"][0] for block in inner for line in block if line["directive"] == "root" and line["args"])
    return next((root for root in roots if root.startswith("/") and "$" not in root), None)


def barriers(host: Host, scope: Scope, statement: dict[str, Any], alone: Spot | None) -> Iterator[Barrier]:
    """What keeps PHP from running the script of the first page.

    ``statement`` hands requests on; ``alone`` is its line, where another can stand behind that.
    """
    scripts = scope.first_scripts(statement)
    if not scripts or scope.alias:
        return
    if _has_usual(host) and (lacking := [name for name in (SCRIPT, "REQUEST_METHOD") if not _sent(scope, name)]):
        yield _lacking(host, scope, statement, lacking, alone)
        return
    origin = next((origin for name, _, origin in reversed(scope.sent) if name == SCRIPT), statement["origin"])
    for script in scripts:
        root = scope.root if scope.own_root or not scope.root_beside else scope.root_beside
        path = f"{script}{FRONT}" if script.endswith("/") else script
        if root is None or "$" in root or not is_file(host, f"{root.rstrip('/')}{path}"):
            continue  # the application is not there yet
        told = _told(host, scope, script)
        if (told is None and root == scope.root) or (told and is_file(host, told)):
            continue
        if root != scope.root:
            why = "no root is set where PHP files are handed on, so PHP finds none of them"
            yield Barrier(why, f"write root {root}; for the whole server", statement["origin"], _line_of(root))
            return
        if script.endswith("/"):
            why = f"a request for {script} is handed to PHP as that of a directory, and answered with an error"
            own = (_INDEX,) if alone and _is_own(scope, statement) else ()
            yield Barrier(why, f"write {_INDEX} beside fastcgi_pass", statement["origin"], own, spot=alone)
            return
        why = f"PHP is told to run {told or 'no file'} for {script}, which is not there"
        yield Barrier(why, f"write {_PARAMETER}", origin)
        return


def _has_usual(host: Host) -> bool:
    """Whether the usual parameters of nginx are there: where they are not, more of its files may be missing here."""
    return any("REQUEST_METHOD" in (text_or_none(host, path) or "") for path in _USUAL)


def root_of_scripts(
    server: Sequence[dict[str, Any]], root: str | None, handed: Iterable[Handoff], first: Collection[Origin], host: Host
) -> Iterator[Barrier]:
    """Where only what hands PHP files on has a root, a request for / is looked up elsewhere.

    ``first`` are the lines that hand a visitor's first request on.
    """
    front = [
        line
        for statement in server
        if statement["directive"] == "location" and statement["args"][-1:] == ["/"]
        for line in statement["block"]
    ]
    names = {statement["directive"] for statement in (*server, *front)}
    tried = next(
        (statement["args"] for statement in (*front, *server) if statement["directive"] == "try_files"), ["$uri/"]
    )
    # Files that are tried for a directory are not found elsewhere, and what is then tried is found.
    if root is not None or "$uri/" not in tried or not _ELSEWHERE.isdisjoint(names):
        return
    roots = (
        handoff.root
        for handoff in handed
        if handoff.origin in first and handoff.kind == "socket" and not handoff.aliased
    )
    for own in filter(None, roots):
        if own.startswith("/") and "$" not in own and is_file(host, f"{own.rstrip('/')}/{FRONT}"):
            why = "a request for / finds no index file: root is set for PHP files alone"
            yield Barrier(why, f"write root {own}; for the whole server", lines=_line_of(own))
            return


def _line_of(root: str) -> tuple[str, ...]:
    """The line that sets a root, where it can be written as it is."""
    return (f"root {root};",) if PLAIN_PATH.fullmatch(root) else ()


def _sent(scope: Scope, name: str) -> bool:
    """Whether a parameter is sent; PHP takes the path of the script from another one, too."""
    names = {sent for sent, _, _ in scope.sent}
    return name in names or (name == SCRIPT and "PATH_TRANSLATED" in names)


def _lacking(
    host: Host, scope: Scope, statement: dict[str, Any], lacking: Sequence[str], alone: Spot | None
) -> Barrier:
    """Parameters without which PHP runs nothing, with the line that sends them where that is safe to add."""
    complete = lacking != [SCRIPT]
    line = "include fastcgi.conf;" if complete else _PARAMETER
    why = f"PHP is not told {' and '.join(lacking)}, without which it runs no script"
    there = not complete or host.stat(_WHOLE) is not None
    # In a file that several servers include, the line would take from others what they have around it.
    known = _is_own(scope, statement) and there and (scope.sent_here or not scope.sent)
    lines, spot = ((line,), alone) if known and alone else ((), None)
    return Barrier(why, f"write {line} beside fastcgi_pass", statement["origin"], lines, spot=spot)


def _is_own(scope: Scope, statement: dict[str, Any]) -> bool:
    """Whether a statement stands in the file in which its server is set up."""
    return scope.set_up is not None and statement["origin"].file == scope.set_up.file


def _told(host: Host, scope: Scope, script: str) -> str | None:
    """The file that PHP is told to run; None where that is not known."""
    text = next((text for name, text, _ in reversed(scope.sent_as_known()) if name == SCRIPT), None)
    if text is None:
        return None
    known = scope.known(host) | dict.fromkeys(_ADDRESSES, script)
    if root := known.get("$document_root"):
        known["$request_filename"] = f"{root.rstrip('/')}{script}"
    told = filled(text, known)
    return None if "$" in told or (told and not told.startswith("/")) else told
