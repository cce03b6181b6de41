"""The CGI programs that Apache runs for PHP files: by mod_actions and a ``ScriptAlias``, or by mod_fcgid.

Source: Apache's documentation of ``Action``, ``ScriptAlias``, ``Options ExecCGI`` and of mod_fcgid; asked of real
servers (``tests/real/test_cgi.py``).
"""

import posixpath
from collections.abc import Collection, Iterable, Iterator, Sequence
from contextlib import suppress
from typing import Final

import msgspec

from fundamentum.hosts.base import Host
from fundamentum.model.surrounding_facts import Barrier
from fundamentum.webservers.apache2.directives import Modules
from fundamentum.webservers.apache2.handlers import FCGID, Handler, depends
from fundamentum.webservers.apache2.lines import Line, windows_style
from fundamentum.webservers.apache2.merging import SCRIPT, rank
from fundamentum.webservers.apache2.options import Options
from fundamentum.webservers.handoffs import PLAIN_PATH
from fundamentum.webservers.visit_questions import Unclear

NAMES: Final = frozenset({"action", "fcgidwrapper", "fcgiwrapper"})
"""What names a program; ``FCGIWrapper`` is what ``FcgidWrapper`` was called first."""
_RUNNING: Final = frozenset({"cgi_module", "cgid_module"})


def types_of(lines: Iterable[Line]) -> frozenset[str]:
    """The types of files, and handlers, for which an ``Action`` runs a program."""
    return frozenset(line.words[0] for line in lines if line.name == "action" and len(line.words) > 1)


def named(host: Host, handler: Handler, lines: Sequence[Line], root: str, modules: Collection[str]) -> Handler:
    """A handler with the program that it runs; ``lines`` are those of its host, the main server's first."""
    if handler.kind != "program":
        return handler
    try:
        if handler.by == FCGID:
            program, running = _wrapper(lines, root), "fcgid_module" in modules
        else:
            program, running = _action(handler.by, lines, root), not _RUNNING.isdisjoint(modules)
    except Unclear:
        return msgspec.structs.replace(handler, kind="unclear")
    if not running and Modules(modules).told and not host.windows:
        return msgspec.structs.replace(handler, kind="none")
    if not program:
        return msgspec.structs.replace(handler, kind="unclear")
    return msgspec.structs.replace(handler, target=windows_style(host, program))


def _last(lines: Iterable[Line], root: str) -> Line | None:
    """Of lines that count for the site's scripts, the one that counts last."""
    ranked = [
        (ranked_as, at, line)
        for at, line in enumerate(lines)
        if (ranked_as := rank(line, f"/{SCRIPT}", root.rstrip("/"))) is not None
    ]
    last = max(ranked, key=lambda ranked_line: ranked_line[:2])[2] if ranked else None
    if last and depends(last):
        raise Unclear
    return last


def _wrapper(lines: Sequence[Line], root: str) -> str:
    """What mod_fcgid runs for PHP files; empty: the file itself."""
    wrappers = [line for line in lines if line.name in ("fcgidwrapper", "fcgiwrapper") and line.words]
    of_php = [line for line in wrappers if line.words[1:2] and line.words[1].lstrip(".") == "php"]
    line = _last(of_php, root) or _last((wrapper for wrapper in wrappers if len(wrapper.words) == 1), root)
    return (line.words[0].split() or [""])[0] if line else ""


def _action(kind: str, lines: Sequence[Line], root: str) -> str:
    """The program that an ``Action`` runs; empty: its address leads to no program."""
    action = _last((line for line in lines if line.name == "action" and line.words[:1] == (kind,)), root)
    alias = _alias(action.words[1], lines) if action and len(action.words) > 1 else None
    return alias.words[1] + action.words[1][len(alias.words[0]) :] if action and alias else ""


def _alias(address: str, lines: Sequence[Line]) -> Line | None:
    """The line that leads an address to programs: the first one that fits, the host's own before the server's."""
    aliases = [line for line in lines if line.name == "scriptalias" and len(line.words) > 1]
    ordered = sorted(aliases, key=lambda line: not line.within("virtualhost"))
    return next((line for line in ordered if address.startswith(line.words[0])), None)


def barriers(handler: Handler, lines: Sequence[Line], root: str | None, recorded: bool) -> Iterator[Barrier]:
    """What keeps Apache from running a site's program; ``lines`` are those of its host, the main server's first.

    ``recorded``: an older recording holds no ``Options``.
    """
    if handler.kind != "program" or not root or not root.startswith("/"):
        return
    with suppress(Unclear):
        if handler.by != FCGID:
            yield from _closed(lines, handler.target)
        elif not recorded or any(line.name == "options" for line in lines):
            # It runs a program only for files of directories where programs may be run.
            options = Options(lines, root)
            if "execcgi" not in options.on:
                yield options.barrier("Apache refuses to run PHP, as Options has no ExecCGI there", "ExecCGI")


def _closed(lines: Sequence[Line], program: str) -> Iterator[Barrier]:
    """Apache asks who may run a program as it asks who may read a file."""
    if not program.startswith("/"):
        return
    folder, name = posixpath.split(program)
    rules = [line for line in lines if line.name == "require"]
    ranked = [(ranked_as, at, line) for at, line in enumerate(rules) if (ranked_as := rank(line, f"/{name}", folder))]
    last = max(ranked, key=lambda ranked_line: ranked_line[:2])[2] if ranked else None
    if last and [word.lower() for word in last.words] == ["all", "denied"] and not depends(last):
        section = (f'<Directory "{folder}">', "    Require all granted", "</Directory>")
        granted = section if PLAIN_PATH.fullmatch(folder) else ()
        yield Barrier(
            f"Apache refuses to run {program}", f"write Require all granted for {folder}", last.origin, granted
        )
