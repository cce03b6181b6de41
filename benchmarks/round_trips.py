"""How many round trips a survey over SSH takes beyond those of a bare login.

    sudo python benchmarks/round_trips.py ROOT

A real sshd on loopback, that shuts the login into ROOT, is reached through a proxy that holds everything back for a
while in each direction.  The time a command takes grows by the number of its round trips times that delay.
"""

import os
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))
sys.path.insert(0, str(Path(__file__).parents[1] / "tools"))
from debian_root import Root
from tests.real.twin import sshd

FUNDAMENTUM = str(Path(sys.executable).with_name("fundamentum"))
PORT = 8075


def pump(source: socket.socket, target: socket.socket, delay: float) -> None:
    """Pass on what comes, each piece later by the delay, without waiting for one before reading the next."""
    pieces: list[tuple[float, bytes]] = []
    ready = threading.Condition()

    def write() -> None:
        while True:
            with ready:
                ready.wait_for(lambda: pieces)
                due, data = pieces.pop(0)
            time.sleep(max(0.0, due - time.monotonic()))
            try:
                if not data:
                    target.shutdown(socket.SHUT_WR)
                    return
                target.sendall(data)
            except OSError:
                return

    threading.Thread(target=write, daemon=True).start()
    while True:
        try:
            data = source.recv(65536)
        except OSError:
            data = b""
        with ready:
            pieces.append((time.monotonic() + delay, data))
            ready.notify()
        if not data:
            return


def proxy(delay: list[float], far_end: list[int]) -> None:
    """Listen, and pass everything on to the sshd."""
    listener = socket.create_server(("127.0.0.1", PORT))
    while True:
        one = listener.accept()[0]
        two = socket.create_connection(("127.0.0.1", far_end[0]))
        for connection in (one, two):
            connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        for pair in ((one, two), (two, one)):
            threading.Thread(target=pump, args=(*pair, delay[0]), daemon=True).start()


def median(command: list[str], environment: dict[str, str]) -> float:
    taken = []
    for _ in range(5):
        start = time.perf_counter()
        subprocess.run(command, env=environment, check=True, capture_output=True)
        taken.append(time.perf_counter() - start)
    return statistics.median(taken)


def main() -> None:
    delay, far_end = [0.0], list[int]()
    threading.Thread(target=proxy, args=(delay, far_end), daemon=True).start()
    with tempfile.TemporaryDirectory() as folder, sshd(Root(Path(sys.argv[1])), Path(folder)) as environment:
        known = Path(folder, "known")
        known.write_text(known.read_text().replace(f":{environment['SSHD_PORT']}", f":{PORT}"))
        far_end.append(int(environment["SSHD_PORT"]))
        bare = ["ssh", "-p", str(PORT), "root@127.0.0.1", "true"]
        ours = [FUNDAMENTUM, "survey", f"ssh://root@127.0.0.1:{PORT}", "-o", os.devnull]
        near = [median(command, environment) for command in (bare, ours)]
        delay[0] = 0.2  # each way
        far = [median(command, environment) for command in (bare, ours)]
    trips = [(one - two) / 0.4 for one, two in zip(far, near, strict=True)]
    print(f"bare login: {near[0]:.2f} s near, {far[0]:.2f} s far: {trips[0]:.1f} round trips")
    print(f"survey:     {near[1]:.2f} s near, {far[1]:.2f} s far: {trips[1]:.1f} round trips (wanted: at most 1 more)")


if __name__ == "__main__":
    main()
