"""Ask a running pool over FastCGI what it has really loaded.

FastCGI runs scripts and nothing else, so a small script is put into a directory of its own inside the server, run by
each pool, and removed.  This is done only when it is asked for.
"""

import json
import os
import shutil
import socket
import struct
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Final

from msgspec.structs import replace

from fundamentum.server.model import Answer, Remark, Runtime, Survey
from fundamentum.server.probes.php_config import without_secrets

TIMEOUT: Final = 10
MAX_ANSWER: Final = 4 * 1024 * 1024
PLACES: Final = ("/run", "/dev/shm", "/tmp")
SCRIPT: Final = """<?php
header('Content-Type: application/json');
echo "\\n", 'ANSWER', json_encode([
    array_values(array_unique(array_merge(get_loaded_extensions(), get_loaded_extensions(true)))),
    array_map('strval', ini_get_all(null, false)),
], JSON_INVALID_UTF8_SUBSTITUTE | JSON_PARTIAL_OUTPUT_ON_ERROR);
"""
_BEGIN, _END, _PARAMS, _STDIN, _STDOUT = 1, 3, 4, 5, 6


class NoAnswer(Exception):
    """The pool did not answer as expected; the message says what happened."""


def ask_pools(survey: Survey, root: Path) -> Survey:
    """The survey with the answer of every pool that could be asked, and a remark for each that could not."""
    runtimes = []
    for runtime in survey.runtimes:
        if runtime.sapi == "fpm" and runtime.listen:
            try:
                runtime = replace(runtime, answer=_ask(runtime, root))
            except (NoAnswer, OSError) as error:
                why = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
                remark = Remark("asking pools", f"{runtime.label} did not answer at {runtime.listen}: {why}")
                runtime = replace(runtime, remarks=(*runtime.remarks, remark))
        runtimes.append(runtime)
    return replace(survey, runtimes=tuple(runtimes))


def _ask(runtime: Runtime, root: Path) -> Answer:
    with connected(root, runtime.listen or "") as connection, _script(runtime, root) as path:
        output = request(connection, {"REQUEST_METHOD": "GET", "SCRIPT_FILENAME": path, "SCRIPT_NAME": "/ask.php"})
    _, mark, text = output.partition(b"ANSWER")
    try:
        extensions, settings = json.loads(text) if mark else (None, None)
    except ValueError:
        extensions, settings = None, None
    if not isinstance(extensions, list) or not isinstance(settings, dict):
        said = output.partition(b"\r\n\r\n")[2].strip().decode("utf-8", "replace")
        raise NoAnswer(f"it ran no script of ours ({said[:80] or 'no output'})")
    return Answer(
        tuple(str(name) for name in extensions),
        {name: without_secrets(name, value) for name, value in settings.items() if isinstance(value, str)},
    )


@contextmanager
def _script(runtime: Runtime, root: Path) -> Iterator[str]:
    """The script in a directory that the pool may read, as the pool names it."""
    fence = runtime.settings.get("open_basedir")
    allowed = [part for part in (fence.value or "").split(":") if part.startswith("/")] if fence else []
    for place in allowed or PLACES:
        inside = root / place.lstrip("/")
        if inside.is_symlink() or not inside.is_dir():
            continue
        try:
            folder = Path(tempfile.mkdtemp(prefix="fundamentum-", dir=inside))
        except OSError:
            continue
        try:
            folder.chmod(0o755)
            (folder / "ask.php").write_text(SCRIPT)
            (folder / "ask.php").chmod(0o644)
            yield f"{place.rstrip('/')}/{folder.name}/ask.php"
        finally:
            shutil.rmtree(folder, ignore_errors=True)
        return
    raise NoAnswer(f"no directory to put a script into: tried {', '.join(allowed or PLACES)}")


@contextmanager
def connected(root: Path, listen: str) -> Iterator[socket.socket]:
    """A connection to the pool's socket."""
    if listen.startswith("/"):
        # A socket's path is limited to about a hundred bytes; that of its directory's descriptor is short.
        folder = os.open(root / listen.lstrip("/").rpartition("/")[0], os.O_PATH | os.O_DIRECTORY)
        try:
            connection = socket.socket(socket.AF_UNIX)
            connection.settimeout(TIMEOUT)
            connection.connect(f"/proc/self/fd/{folder}/{listen.rpartition('/')[2]}")
        finally:
            os.close(folder)
    else:
        host, _, port = listen.rpartition(":")
        name = "127.0.0.1" if host in ("", "*", "0.0.0.0", "[::]") else host.strip("[]")
        if name not in ("127.0.0.1", "localhost", "::1") or not port.isdigit():
            raise NoAnswer("only pools of this machine are asked")
        connection = socket.create_connection((name, int(port)), TIMEOUT)
    with connection:
        yield connection


def request(connection: socket.socket, parameters: dict[str, str]) -> bytes:
    """Send one request and read its output.  Source: the FastCGI specification."""
    pairs = b"".join(
        _length(name) + _length(value) + name.encode() + value.encode() for name, value in parameters.items()
    )
    records = ((_BEGIN, struct.pack(">HB5x", 1, 0)), (_PARAMS, pairs), (_PARAMS, b""), (_STDIN, b""))
    connection.sendall(b"".join(struct.pack(">BBHHBx", 1, kind, 1, len(body), 0) + body for kind, body in records))
    output = bytearray()
    stream = connection.makefile("rb")
    while len(head := stream.read(8)) == 8:
        _, kind, _, size, padding = struct.unpack(">BBHHBx", head)
        body = stream.read(size + padding)[:size]
        if kind == _END:
            return bytes(output)
        if kind == _STDOUT:
            output += body
        if len(output) > MAX_ANSWER:
            raise NoAnswer("its answer has no end")
    raise NoAnswer("the connection broke off")


def _length(text: str) -> bytes:
    size = len(text.encode())
    return struct.pack(">B", size) if size < 128 else struct.pack(">I", size | 0x80000000)
