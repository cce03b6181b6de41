"""Database servers asked for nothing: what they say of themselves before anybody logs in."""

import socket
from pathlib import Path
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog.suppliers import suppliers
from fundamentum.errors import InputError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.surrounding_facts import Database
from fundamentum.model.survey import Survey
from fundamentum.untrusted.numbers import whole
from fundamentum.untrusted.peers import linked

TIMEOUT: Final = 3
MAX_GREETING: Final = 4096
_HOST: Final = lazy_regex(r"[A-Za-z0-9_][A-Za-z0-9_.-]{0,252}|\[[0-9A-Fa-f:.]{2,45}(?:%[A-Za-z0-9_.-]{1,20})?\]")
SOCKETS: Final = {
    product: tuple(place for place in suppliers().places[product] if place.startswith("/"))
    for product in ("mysql", "postgresql")
}
PORTS: Final = {"mysql": 3306, "postgresql": 5432}
_TLS_QUESTION: Final = b"\x00\x00\x00\x08\x04\xd2\x16\x2f"
"""Source: PostgreSQL's documentation of its protocol, SSLRequest."""
_OLD_PREFIX: Final = "5.5.5-"
"""Versions of MariaDB from 10 to 10.x put this in front, for clients that expect a version of one digit."""


def here() -> tuple[Database, ...]:
    """The database servers that answer on this machine, each asked through its socket if it has one."""
    databases = []
    for kind, paths in SOCKETS.items():
        address = next(
            (path for path in dict.fromkeys(str(Path(path).resolve()) for path in paths) if Path(path).is_socket()),
            None,
        )
        database = _asked(kind, address or ("127.0.0.1", PORTS[kind]))
        databases += [database] if database else []
    return tuple(databases)


def with_database(survey: Survey, address: str) -> Survey:
    """The survey with the database server at that address, which then is the only one that counts."""
    return replace(survey, databases=(replace(at(address), chosen=True),))


def at(address: str) -> Database:
    """The one at ``HOST[:PORT]`` or at a socket's path; an :class:`InputError` if nothing there greets like one."""
    if address.startswith("/"):
        kinds = sorted(SOCKETS, key=lambda kind: (kind == "postgresql") != (".PGSQL." in address))
        places: list[tuple[str, str | tuple[str, int]]] = [(kind, address) for kind in kinds]
    else:
        name, _, port = address.rpartition(":") if ":" in address.rpartition("]")[2] else (address, "", "")
        number = whole(port) if port else 0
        if number is None or number > 65535 or not _HOST.fullmatch(name):
            what = "is no address of a database; write HOST, HOST:PORT or the path of a socket, and no password"
            raise InputError("--database", what)  # whatever it is may hold a password
        kinds = sorted(PORTS, key=lambda kind: port and PORTS[kind] != number)
        places = [(kind, (name.strip("[]"), number or PORTS[kind])) for kind in kinds]
    for kind, place in places:
        if database := _asked(kind, place):
            return database
    raise InputError(address, "no database server that is known here (MariaDB, MySQL, PostgreSQL) answers there")


def _asked(kind: str, place: str | tuple[str, int]) -> Database | None:
    try:
        with linked(place, TIMEOUT) as link:
            words = place if isinstance(place, str) else f"{place[0]}:{place[1]}"
            return _mysql(link, words) if kind == "mysql" else _postgresql(link, words)
    except (OSError, ValueError):
        return None


def _mysql(link: socket.socket, address: str) -> Database | None:
    """The first packet of either.  Source: MySQL's documentation of its protocol (Protocol::Handshake)."""
    data = b""
    while len(data) < MAX_GREETING and (len(data) < 5 or b"\0" not in data[5:]):
        received = link.recv(MAX_GREETING)
        if not received:
            break
        data += received
    if len(data) < 6 or data[3] != 0 or data[4] != 10 or b"\0" not in data[5:]:
        return None
    text = data[5:].partition(b"\0")[0].decode("ascii", "replace")
    if text[:1] not in "0123456789" or len(text) > 200:
        return None
    product = "mariadb" if "mariadb" in text.lower() else "mysql"
    return Database(product, text.removeprefix(_OLD_PREFIX).partition("-")[0], address)  # type: ignore[arg-type]


def _postgresql(link: socket.socket, address: str) -> Database | None:
    """It answers the question for TLS by one letter; its version it tells nobody who has not logged in."""
    link.sendall(_TLS_QUESTION)
    return Database("postgresql", None, address) if link.recv(16) in (b"S", b"N") else None
