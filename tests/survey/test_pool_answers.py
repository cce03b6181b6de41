"""Asking pools over FastCGI: a small pool of our own speaks the protocol, whole requests and what goes wrong."""

import json
import socket
import struct
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from msgspec.structs import replace

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.php import Runtime, Setting
from fundamentum.survey import pool_answers
from fundamentum.survey.observe import survey
from fundamentum.survey.pool_answers import NoAnswer, ask_pools, connected, parsed, request
from tests.small_root import small_root

TOLD = [["Core", "intl"], {"memory_limit": "128M", "a;b": "x", "nightlog.token": "owl"}, {"icu": "72.1", "n": 3}]


def record(kind: int, body: bytes = b"", padding: int = 0) -> bytes:
    return struct.pack(">BBHHBx", 1, kind, 1, len(body), padding) + body + bytes(padding)


def heard(connection: socket.socket) -> tuple[list[int], dict[str, str]]:
    """The kinds of records of one request, and its parameters."""
    kinds, pairs, stream = [], b"", connection.makefile("rb")
    while True:
        _, kind, number, size, _ = struct.unpack(">BBHHBx", stream.read(8))
        body = stream.read(size)
        kinds.append(kind)
        assert number == 1
        if kind == 1:
            assert body == bytes([0, 1, 0, 0, 0, 0, 0, 0])  # a responder, whose connection is closed afterwards
        if kind == 4:
            pairs += body
        if kind == 5:
            return kinds, dict(parameters(pairs))


def parameters(data: bytes) -> Iterator[tuple[str, str]]:
    while data:
        sizes = []
        for _ in range(2):
            long = data[0] & 0x80
            sizes.append(struct.unpack(">I", data[:4])[0] & 0x7FFFFFFF if long else data[0])
            data = data[4 if long else 1 :]
        yield data[: sizes[0]].decode(), data[sizes[0] : sum(sizes)].decode()
        data = data[sum(sizes) :]


@contextmanager
def pool(path: Path, answer: Callable[[dict[str, str]], bytes]) -> Iterator[list[list[int]]]:
    """A pool that answers one request; yields the kinds of records that it got."""
    kinds: list[list[int]] = []
    listening = socket.socket(socket.AF_UNIX)
    listening.bind(str(path))
    listening.listen()

    def serve() -> None:
        connection, _ = listening.accept()
        with connection:
            seen, pairs = heard(connection)
            kinds.append(seen)
            connection.sendall(answer(pairs))

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    try:
        yield kinds
        thread.join(5)
    finally:
        listening.close()


@pytest.fixture
def root(tmp_path: Path) -> Path:
    root = small_root(tmp_path)
    for folder in ("run/php", "tmp", "dev/shm", "srv/nightlog"):
        (root / folder).mkdir(parents=True, exist_ok=True)
    return root


def with_pool(root: Path, **changed: object) -> Runtime:
    runtime = next(runtime for runtime in survey(DirectoryHost(root, "x")).runtimes if runtime.sapi == "fpm")
    return replace(runtime, listen="/run/php/pool.sock", **changed)


def asked(root: Path, runtime: Runtime) -> Runtime:
    surveyed = survey(DirectoryHost(root, "x"))
    return ask_pools(replace(surveyed, runtimes=(runtime,)), root).runtimes[0]


def left(root: Path) -> list[Path]:
    return list(root.rglob("fundamentum-*"))


def test_a_pool_runs_the_script_and_tells_what_it_has(root: Path) -> None:
    seen = {}

    def answer(pairs: dict[str, str]) -> bytes:
        seen.update(pairs)
        script = root / pairs["SCRIPT_FILENAME"].lstrip("/")
        assert "get_loaded_extensions" in script.read_text()
        assert (script.stat().st_mode & 0o777, script.parent.stat().st_mode & 0o777) == (0o644, 0o755)
        body = b"Content-Type: application/json\r\n\r\n\nANSWER" + json.dumps(TOLD).encode()
        return (
            record(7, b"a warning") + record(6, body[:40], 3) + record(6, body[40:]) + record(6) + record(3, bytes(8))
        )

    with pool(root / "run/php/pool.sock", answer) as kinds:
        runtime = asked(root, with_pool(root, told={"zlib": "1.2"}))
    assert runtime.answer is not None, runtime.remarks
    assert runtime.answer.extensions == ("Core", "intl")
    assert runtime.answer.settings == {"memory_limit": "128M", "nightlog.token": "(withheld)"}
    assert runtime.told == {"zlib": "1.2", "icu": "72.1"}
    assert kinds == [[1, 4, 4, 5]]
    assert seen["SCRIPT_FILENAME"].startswith("/run/fundamentum-")
    assert (seen["REQUEST_METHOD"], seen["SCRIPT_NAME"]) == ("GET", "/ask.php")
    assert left(root) == []


def test_the_script_stands_where_the_pool_may_read(root: Path) -> None:
    def answer(pairs: dict[str, str]) -> bytes:
        return record(6, b"\r\n\r\nANSWER" + json.dumps([[], {"x": pairs["SCRIPT_FILENAME"]}, []]).encode()) + record(3)

    fence = {"open_basedir": Setting("/nowhere:/srv/nightlog/")}
    with pool(root / "run/php/pool.sock", answer):
        runtime = asked(root, with_pool(root, settings=fence))
    assert runtime.answer is not None
    assert runtime.answer.settings["x"].startswith("/srv/nightlog/fundamentum-")
    shut = asked(root, with_pool(root, settings={"open_basedir": Setting("/nowhere:relative")}))
    assert shut.answer is None
    assert left(root) == []


@pytest.mark.parametrize(
    ("said", "complaint"),
    [
        (record(6, b"Status: 404\r\n\r\nFile not found.\n") + record(3), "it ran no script of ours (File not found.)"),
        (record(3), "it ran no script of ours (no output)"),
        (record(6, b"\r\n\r\nANSWER[1, 2"), "the connection broke off"),
        (record(6, b"\r\n\r\nANSWER[1, 2") + record(3), "it ran no script of ours (ANSWER[1, 2)"),
        (record(6, b"\r\n\r\nANSWER[[], [], {}]") + record(3), "it ran no script of ours (ANSWER[[], [], {}])"),
        (record(6, b"\r\n\r\nANSWER[{}, {}, {}]") + record(3), "it ran no script of ours (ANSWER[{}, {}, {}])"),
        (b"\1\3", "the connection broke off"),
    ],
)
def test_what_goes_wrong_is_a_remark(root: Path, said: bytes, complaint: str) -> None:
    with pool(root / "run/php/pool.sock", lambda pairs: said):
        runtime = asked(root, with_pool(root))
    assert runtime.answer is None
    assert [remark.why for remark in runtime.remarks if remark.about == "asking pools"] == [
        f"{runtime.label} did not answer at /run/php/pool.sock: {complaint}"
    ]
    assert left(root) == []


def test_an_answer_without_an_end(root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pool_answers, "MAX_ANSWER", 1000)
    with pool(root / "run/php/pool.sock", lambda pairs: record(6, bytes(600)) * 2 + record(3)):
        assert asked(root, with_pool(root)).remarks[-1].why.endswith("its answer has no end")


@pytest.mark.parametrize(
    ("listen", "complaint"),
    [
        ("/run/php/none.sock", "No such file or directory"),
        ("/etc/hostname", "there is no socket"),
        ("192.0.2.1:9000", "only pools of this machine are asked"),
        ("127.0.0.1:http", "only pools of this machine are asked"),
        ("127.0.0.1:65536", "only pools of this machine are asked"),
        ("127.0.0.1:1", "Connection refused"),
    ],
)
def test_a_pool_that_cannot_be_reached(root: Path, listen: str, complaint: str) -> None:
    (root / "etc/hostname").write_text("altair\n")
    runtime = asked(root, replace(with_pool(root), listen=listen))
    assert (runtime.answer, runtime.remarks[-1].why.rpartition(": ")[2]) == (None, complaint)


def test_after_the_time_for_all_pools_none_is_asked(root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pool_answers, "PATIENCE", -1.0)
    assert "not asked" in asked(root, with_pool(root)).remarks[-1].why
    other = replace(with_pool(root), sapi="cli")
    assert asked(root, other) == other


@pytest.mark.parametrize("name", ["", "*", "0.0.0.0", "[::]", "localhost"])
def test_a_pool_on_every_address_is_asked_on_loopback(root: Path, name: str) -> None:
    with socket.create_server(("127.0.0.1", 0)) as listening:
        listen = f"{name}:{listening.getsockname()[1]}"
        with connected(DirectoryHost(root, "x"), listen) as connection:
            assert connection.getpeername()[0] == "127.0.0.1"


def test_long_parameters_and_many_records() -> None:
    ours, theirs = socket.socketpair()
    with ours, theirs:
        theirs.sendall(record(6, b"night") * 3 + record(3))
        assert request(ours, {"SHORT": "x" * 127, "LONG": "x" * 128, "WIDE": "é" * 70}) == b"night" * 3
        kinds, pairs = heard(theirs)
    assert pairs == {"SHORT": "x" * 127, "LONG": "x" * 128, "WIDE": "é" * 70}
    assert kinds == [1, 4, 4, 5]


def test_an_answer_is_held_to_bounds(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pool_answers, "MAX_NAMES", 2)
    settings = {"a": "1", "b": None, "c": "3"}
    answer = parsed(b"ANSWER" + json.dumps([["x", 1, "y"], settings, {"k" * 200: "v" * 200}]).encode())
    assert (answer.extensions, answer.settings, answer.told) == (("x",), {"a": "1"}, {"k" * 120: "v" * 120})
    with pytest.raises(NoAnswer):
        parsed(b'[["x"], {}, {}]')
