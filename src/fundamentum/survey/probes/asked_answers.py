"""What is found out about texts, sockets and variables that needs of applications ask about."""

from collections.abc import Mapping, Sequence
from typing import Final

from fundamentum.hosts.base import Host, HostError, Question
from fundamentum.hosts.processes import Process
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.safe_text import safe
from fundamentum.model.surrounding_facts import Answer, Asked
from fundamentum.survey.probes import locales
from fundamentum.untrusted.secrets import names_a_secret, without_credentials

MAX_TEXT: Final = 64 * 1024
MAX_LINES: Final = 500
TEXT: Final = lazy_regex(r"/(?:etc|proc|sys|usr/share|usr/lib|var/lib)(?:/[A-Za-z0-9_@+-][A-Za-z0-9_.@+-]*)+")
"""Paths of texts that may be asked about: none in which somebody's own files lie."""
SOCKET: Final = lazy_regex(r"/[A-Za-z0-9_.@+/-]+|(?:[A-Za-z0-9.-]+:)?[0-9]{1,5}")
"""A path, or ``HOST:PORT``, of which the port counts: whatever listens there does so on this machine."""


def probe(host: Host, asked: Asked, processes: Sequence[Process]) -> dict[str, Answer]:
    """An answer for each question, by ``text:PATH``, ``socket:PLACE``, ``variable:NAME``; and ``locales:installed``."""
    if host.windows or not (asked.texts or asked.sockets or asked.variables or asked.locales):
        return {}
    known = [dict(process.variables) for process in processes if process.variables is not None]
    answers = {f"variable:{name}": _variable(name, known) for name in asked.variables}
    if asked.locales:
        answers["locales:installed"] = locales.probe(host)
    if not host.whole:
        return answers | _recorded(host, asked)
    answers |= {f"text:{path}": _text(host, path) for path in asked.texts}
    listening = _listening(host) if asked.sockets else None
    for place in asked.sockets:
        answers[f"socket:{place}"] = Answer(None if listening is None else place.rpartition(":")[2] in listening)
    return answers


def _text(host: Host, path: str) -> Answer:
    if not TEXT.fullmatch(path):
        return Answer(None)
    try:
        data = host.read(path, MAX_TEXT)
    except HostError:
        return Answer(None)
    if data is None:
        return Answer(None if path.startswith(("/proc/", "/sys/")) and not host.live else False)
    return Answer(True, _lines(data.decode("utf-8", "replace").splitlines()))


def _lines(lines: list[str]) -> tuple[str, ...]:
    """Lines as they may be kept: none that may hold a password."""
    kept = (without_credentials(line) for line in lines[:MAX_LINES] if not names_a_secret(line))
    return tuple(safe(line.expandtabs())[:1000] for line in kept)


def _variable(name: str, known: Sequence[Mapping[str, str]]) -> Answer:
    """The value that the first process has of those whose environment can be seen."""
    if not known or names_a_secret(name):
        return Answer(None)
    value = next((variables[name] for variables in known if name in variables), None)
    return Answer(value is not None, _lines([value]) if value is not None else ())


def _listening(host: Host) -> frozenset[str] | None:
    """Paths and ports at which something listens; None where that cannot be seen.  Source: proc_net(5)."""
    if not host.live:
        return None
    paths: set[str] = set()
    try:
        for line in (host.read("/proc/net/unix", MAX_TEXT * 16) or b"").decode("utf-8", "replace").splitlines()[1:]:
            fields = line.split(None, 7)
            if len(fields) == 8 and int(fields[3], 16) & 0x10000:
                paths.add(fields[7])
        for name in ("tcp", "tcp6"):
            lines = (host.read(f"/proc/net/{name}", MAX_TEXT * 16) or b"").decode("ascii", "replace").splitlines()
            paths |= {str(int(line.split()[1].rpartition(":")[2], 16)) for line in lines[1:] if line.split()[3] == "0A"}
    except (HostError, ValueError, IndexError):
        return None
    return frozenset(paths)


def _recorded(host: Host, asked: Asked) -> dict[str, Answer]:
    """What the recorder wrote down: a line for each thing that is there, and one for each line of it."""
    told = (host.answer(Question("asked", ())) or b"").decode("utf-8", "replace").splitlines()
    there: dict[str, list[str]] = {}
    absent = {line.removeprefix("absent\t") for line in told if line.startswith("absent\t")}
    for line in told:
        verb, _, rest = line.partition("\t")
        question, _, text = rest.partition("\t")
        if verb in ("there", "line"):
            there.setdefault(question, []).extend([text] if verb == "line" else [])
    questions = [*(f"text:{path}" for path in asked.texts), *(f"socket:{place}" for place in asked.sockets)]
    return {
        question: Answer(True, _lines(there[question]))
        if question in there
        else Answer(False if question in absent else None)
        for question in questions
    }
