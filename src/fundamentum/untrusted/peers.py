"""Programs at the other end of a connection, which may answer a byte at a time, or never."""

import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress


@contextmanager
def within(connection: socket.socket, seconds: float) -> Iterator[None]:
    """Shut the connection down when the time is over, whoever waits for it: a limit for everything that is said.

    A socket's own time limit starts anew with every byte.
    """
    timer = threading.Timer(seconds, _shut, (connection,))
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()


@contextmanager
def linked(place: str | tuple[str, int], seconds: float) -> Iterator[socket.socket]:
    """A connection to a socket of this machine by its path, or to a host and port, for so long altogether."""
    if isinstance(place, str):
        connection = socket.socket(socket.AF_UNIX)
        connection.settimeout(seconds)
        connection.connect(place)
    else:
        connection = socket.create_connection(place, seconds)
    with connection, within(connection, seconds):
        connection.settimeout(seconds)
        yield connection


def _shut(connection: socket.socket) -> None:
    with suppress(OSError):
        socket.socket.shutdown(connection, socket.SHUT_RDWR)  # beneath TLS too, whose own farewell waits for the peer
