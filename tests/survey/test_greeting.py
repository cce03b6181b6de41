"""What database servers say before anybody logs in; and what anything else may answer."""

import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from fundamentum.errors import InputError
from fundamentum.survey import database_greeting as greeting


def packet(version: str) -> bytes:
    """The first packet of a MariaDB or MySQL server, as the protocol's documentation has it."""
    body = b"\x0a" + version.encode() + b"\0" + bytes(4) + b"saltsalt\0"
    return len(body).to_bytes(3, "little") + b"\0" + body


@contextmanager
def answering(data: bytes, address: str | None = None) -> Iterator[str]:
    """Something on loopback (or at a socket's path) that sends this to whoever connects."""
    server = socket.create_server(("127.0.0.1", 0)) if address is None else socket.socket(socket.AF_UNIX)
    if address is not None:
        server.bind(address)
        server.listen()
    server.settimeout(5)

    def serve() -> None:
        try:
            while True:
                link, _ = server.accept()
                with link:
                    link.sendall(data)
                    link.settimeout(0.2)
                    with suppress(OSError):
                        link.recv(100)
        except OSError:
            return

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    yield address or f"127.0.0.1:{server.getsockname()[1]}"
    server.shutdown(socket.SHUT_RDWR)
    server.close()
    thread.join()


@pytest.mark.parametrize(
    ("data", "product", "version"),
    [
        (packet("5.5.5-10.11.6-MariaDB-0+deb12u1"), "mariadb", "10.11.6"),
        (packet("11.8.3-MariaDB-0+deb13u1 from Debian"), "mariadb", "11.8.3"),
        (packet("8.0.36-0ubuntu0.22.04.1"), "mysql", "8.0.36"),
        (b"N", "postgresql", None),
        (b"S", "postgresql", None),
    ],
)
def test_each_greeting(data: bytes, product: str, version: str | None) -> None:
    with answering(data) as address:
        database = greeting.at(address)
        assert (database.product, database.version) == (product, version)


@pytest.mark.parametrize(
    "data",
    [b"", b"SSH-2.0-x\r\n", b"HTTP/1.1 400 Bad Request\r\n\r\n", packet("\x1b[31m"), packet("9" * 300), b"\xff" * 9000, b"\x05\0\0\0\x0a8"],
)  # fmt: skip
def test_anything_else_is_no_database(data: bytes, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(greeting, "TIMEOUT", 0.3)
    with answering(data) as address, pytest.raises(InputError, match="no database server"):
        greeting.at(address)


@pytest.mark.parametrize("address", ["a b", ":3306", "host:port", "127.0.0.1:1", "/nowhere/x.sock"])
def test_bad_addresses(address: str) -> None:
    with pytest.raises(InputError):
        greeting.at(address)


def test_the_machine_s_own_sockets_are_asked(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = str(tmp_path / "mysqld.sock")
    monkeypatch.setattr(greeting, "TIMEOUT", 0.5)
    monkeypatch.setattr(greeting, "SOCKETS", {"mysql": (path,), "postgresql": ()})
    monkeypatch.setattr(greeting, "PORTS", {"mysql": 1, "postgresql": 1})
    with answering(packet("11.4.2-MariaDB"), path):
        (database,) = greeting.here()
    assert (database.product, database.version, database.address, database.chosen) == ("mariadb", "11.4.2", path, False)
