"""What Apache passes requests to, and how long it waits there: the workers of mod_proxy.

Source: ``ap_proxy_get_worker``, ``add_pass`` and ``set_proxy_param`` of mod_proxy, asked of real servers.  A worker has
the address of its first line; of those whose name begins an address the longest counts, of equal ones the first.  A
``ProxyPass`` that finds one for its address defines none: what it says of times and of a socket is passed over.
Those of ``ProxyPassMatch`` are a kind of their own (since 2.4.48), which no ``<Proxy>`` section finds.
"""

import re
from collections.abc import Sequence
from typing import Final

import msgspec

from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.surrounding_facts import Limit
from fundamentum.webservers.apache2.lines import Line

_ADDRESS: Final = lazy_regex(r"[a-z]+://[^\s,\]\"]*", re.I)
_SOCKET: Final = lazy_regex(r"unix:[^|\s\"]+", re.I)
_HOST: Final = lazy_regex(r"[a-z]+://[^/]*", re.I)


class Worker(msgspec.Struct):
    """One address, or a beginning of addresses, that requests are passed to."""

    name: str
    by_pattern: bool
    socket: str = ""
    """``unix:`` and the path, where it is reached by one."""
    wait: Limit | None = None
    """How long an answer is waited for, if that is said for it alone."""


def take(workers: list[Worker], line: Line) -> None:
    """Take a line that defines a worker, or says how long it is waited for."""
    wait = waits_of(line)
    if line.name == "proxyset":
        section = line.within("proxy")
        name = _named(section.words) if section else address_of(line)
        worker = _found([worker for worker in workers if not worker.by_pattern], name)
        if name and worker is None:
            workers.append(worker := Worker(name, False, _socket(section.words if section else "")))
        if worker and wait:
            worker.wait = wait
        return
    name, by_pattern = address_of(line), _by_pattern(line)
    if name and _found([worker_of for worker_of in workers if worker_of.by_pattern is by_pattern], name) is None:
        workers.append(Worker(name, by_pattern, _socket(" ".join(line.words)), wait))


def passed_to(line: Line, workers: Sequence[Worker]) -> str | None:
    """Where a ``ProxyPass`` leads that names a socket: to that of its worker, or to the host that it is called by.

    None where it is no such line.
    """
    worker = _found([worker for worker in workers if not worker.by_pattern], address_of(line))
    if line.name != "proxypass" or _by_pattern(line) or worker is None or not _socket(" ".join(line.words)):
        return None
    host = worker.name.partition("://")[2].partition("/")[0]
    return worker.socket or (host if ":" in host else f"{host}:8000")


def waits_of(line: Line) -> Limit | None:
    """``timeout=30`` among the words of a line."""
    timeout = next((word.partition("=")[2] for word in line.words if word.lower().startswith("timeout=")), None)
    return Limit("timeout", timeout, line.origin) if timeout else None


def wait_for(line: Line, script: str, workers: Sequence[Worker]) -> Limit | None:
    """How long it is waited for an answer to a script that this line passes on; None: nothing says so for it alone."""
    behind = script if line.name == "sethandler" else ""  # a handler's address has the script's path behind it
    worker = _found(workers, address_of(line) + behind)
    return worker.wait if worker else None


def address_of(line: Line) -> str:
    """The address that a line passes requests to, without the socket before it; empty where it has none."""
    return _named(" ".join(line.words))


def _named(text: str) -> str:
    """The name of a worker: schemes and hosts are the same in any case."""
    address = _ADDRESS.search(text)
    return _HOST.sub(lambda host: host[0].lower(), address[0], count=1) if address else ""


def _by_pattern(line: Line) -> bool:
    return line.name == "proxypassmatch" or line.within("locationmatch") is not None


def _socket(text: str) -> str:
    match = _SOCKET.search(text)
    return match[0] if match else ""


def _found(workers: Sequence[Worker], address: str) -> Worker | None:
    """The worker that an address belongs to."""
    host = _HOST.match(address)
    least = len(host[0]) if host else 0
    fitting = [worker for worker in workers if len(worker.name) >= least and address.startswith(worker.name)]
    return max(fitting, key=lambda worker: len(worker.name)) if host and fitting else None
