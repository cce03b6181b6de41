"""Services of this machine asked for nothing: what they say of themselves to anybody who has not logged in."""

import re
import stat
from collections.abc import Sequence
from pathlib import Path
from typing import Final

from fundamentum.catalog.services import Service, services
from fundamentum.model.safe_text import safe
from fundamentum.model.surrounding_facts import Answer
from fundamentum.untrusted.peers import linked

TIMEOUT: Final = 3
MAX_SAID: Final = 16 * 1024


def here(names: Sequence[str]) -> dict[str, Answer]:
    """Each of these services, under ``greeting:NAME``: its version, or nothing where it tells none, and its address."""
    return {f"greeting:{name}": _asked(services()[name]) for name in names if name in services()}


def _asked(service: Service) -> Answer:
    sockets = [path for path in service.sockets if _is_socket(path)]
    places: list[str | tuple[str, int]] = [*sockets, *(("127.0.0.1", port) for port in service.ports)]
    for place in places:
        said = _said(place, service)
        match = re.search(service.answers, said) if said else None
        if match:
            address = place if isinstance(place, str) else f"{place[0]}:{place[1]}"
            return Answer(True, (safe(match.groupdict().get("version") or ""), address))
    return Answer(False)


def _is_socket(path: str) -> bool:
    try:
        return stat.S_ISSOCK(Path(path).stat().st_mode)
    except OSError:
        return False


def _said(place: str | tuple[str, int], service: Service) -> str:
    """The beginning of what a service answers, until it has said what is looked for."""
    try:
        with linked(place, TIMEOUT) as link:
            link.sendall(service.asks.encode("latin-1"))
            data = b""
            while len(data) < MAX_SAID and not re.search(service.answers, data.decode("latin-1")):
                received = link.recv(MAX_SAID)
                if not received:
                    break
                data += received
            return data.decode("latin-1")
    except (OSError, ValueError):
        return ""
