"""Ask a running pool over FastCGI what it has really loaded.

FastCGI runs scripts and nothing else, so a small script is put into a directory of its own inside the server, run by
each pool, and removed.  This is done only when it is asked for.
"""

import json
import os
import secrets
import socket
import stat
import struct
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog.libraries import told_by_php
from fundamentum.hosts.base import HostError
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.php import Answer, Runtime
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_directive
from fundamentum.model.survey import Survey
from fundamentum.untrusted.numbers import whole
from fundamentum.untrusted.peers import within
from fundamentum.untrusted.secrets import without_secrets

TIMEOUT: Final = 10
MAX_ANSWER: Final = 4 * 1024 * 1024
MAX_NAMES: Final = 20_000
MAX_PLACES: Final = 20
MAX_RECORDS: Final = 20_000
PATIENCE: Final = 20.0
"""Seconds for all pools of a server together."""
PLACES: Final = ("/run", "/dev/shm", "/tmp")
SCRIPT: Final = f"""<?php
header('Content-Type: application/json');
echo "\\n", 'ANSWER', json_encode([
    array_values(array_unique(array_merge(get_loaded_extensions(), get_loaded_extensions(true)))),
    array_map('strval', ini_get_all(null, false)),
    {told_by_php()},
], JSON_INVALID_UTF8_SUBSTITUTE | JSON_PARTIAL_OUTPUT_ON_ERROR);
"""
_BEGIN, _END, _PARAMS, _STDIN, _STDOUT = 1, 3, 4, 5, 6


class NoAnswer(Exception):
    """The pool did not answer as expected; the message says what happened."""


def ask_pools(survey: Survey, root: Path) -> Survey:
    """The survey with the answer of every pool that could be asked, and a remark for each that could not."""
    runtimes = []
    ends = time.monotonic() + PATIENCE
    for runtime in survey.runtimes:
        if runtime.sapi == "fpm" and runtime.listen:
            try:
                if time.monotonic() > ends:
                    raise NoAnswer(f"all pools together take longer than {PATIENCE:.0f} seconds: not asked")
                answer = _ask(runtime, root)
                runtime = replace(runtime, answer=answer, told={**runtime.told, **answer.told})
            except (NoAnswer, HostError, OSError) as error:
                why = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
                remark = Remark("asking pools", f"{runtime.label} did not answer at {runtime.listen}: {why}")
                runtime = replace(runtime, remarks=(*runtime.remarks, remark))
        runtimes.append(runtime)
    return replace(survey, runtimes=tuple(runtimes))


def _ask(runtime: Runtime, root: Path) -> Answer:
    if not hasattr(os, "O_PATH"):
        raise NoAnswer("this system does not let links be ruled out: ask on the server itself")
    host = DirectoryHost(root, "")
    with connected(host, runtime.listen or "") as connection, script(runtime, host) as path:
        output = request(connection, {"REQUEST_METHOD": "GET", "SCRIPT_FILENAME": path, "SCRIPT_NAME": "/ask.php"})
    return parsed(output)


def parsed(output: bytes) -> Answer:
    """The answer in what the script wrote."""
    _, mark, text = output.partition(b"ANSWER")
    try:
        extensions, settings, told = json.loads(text) if mark else (None, None, None)
    except (ValueError, TypeError, RecursionError):
        extensions, settings, told = None, None, None
    if not isinstance(extensions, list) or not isinstance(settings, dict) or not isinstance(told, dict | list):
        said = output.partition(b"\r\n\r\n")[2].strip().decode("utf-8", "replace")
        raise NoAnswer(f"it ran no script of ours ({said[:80] or 'no output'})")
    values = ((str(name), value) for name, value in list(settings.items())[:MAX_NAMES] if isinstance(value, str))
    return Answer(
        tuple(name for name in extensions[:MAX_NAMES] if isinstance(name, str)),
        {name: without_secrets(name, value) for name, value in values if is_directive(name)},
        said_of_itself(told) if isinstance(told, dict) else {},
    )


def said_of_itself(told: dict[str, object]) -> dict[str, str]:
    """What PHP said of versions and of what it was built with, as far as it can be that."""
    some = list(told.items())[:MAX_NAMES]
    return {key[:120]: value[:120] for key, value in some if isinstance(value, str)}


@contextmanager
def script(runtime: Runtime, host: DirectoryHost) -> Iterator[str]:
    """The script in a directory that the pool may read, as the pool names it.

    Everything is done through the descriptor of a directory inside the root, so that no link leads out of it.
    """
    fence = runtime.settings.get("open_basedir")
    allowed = [part for part in (fence.value or "").split(":") if part.startswith("/")] if fence else []
    for place in allowed[:MAX_PLACES] or PLACES:
        try:
            above = beneath(host, place, os.O_DIRECTORY)
        except (OSError, HostError):
            continue
        try:
            name = f"fundamentum-{secrets.token_hex(8)}"
            try:
                os.mkdir(name, 0o755, dir_fd=above)
                folder = os.open(name, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=above)
            except OSError:
                continue
            try:
                os.fchmod(folder, 0o755)
                put_script(folder, "ask.php")
                yield f"{place.rstrip('/')}/{name}/ask.php"
            finally:
                with suppress(OSError):
                    os.unlink("ask.php", dir_fd=folder)
                os.close(folder)
                with suppress(OSError):
                    os.rmdir(name, dir_fd=above)
        finally:
            os.close(above)
        return
    raise NoAnswer(f"no directory to put a script into: tried {', '.join(allowed[:MAX_PLACES] or PLACES)}")


def put_script(folder: int, name: str) -> None:
    """Write the script below a directory's descriptor, as a new file, so that every user may read it."""
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW
    with open(os.open(name, flags, 0o644, dir_fd=folder), "w") as written:
        os.fchmod(written.fileno(), 0o644)
        written.write(SCRIPT)


def beneath(host: DirectoryHost, path: str, kind: int = 0) -> int:
    """A descriptor of what stands at a path of the root, which links cannot lead out of, not even while we look.

    The links are followed inside the root first; then every part of the way is opened from the one before, as no link.
    """
    real = host.resolve(path)
    if real is None:
        raise FileNotFoundError(2, os.strerror(2), path)
    at = os.open(host.root, os.O_PATH | os.O_DIRECTORY)
    try:
        parts = [part for part in real.split("/") if part]
        for number, part in enumerate(parts, 1):
            flags = os.O_DIRECTORY if number < len(parts) else kind
            following = os.open(part, os.O_PATH | os.O_NOFOLLOW | flags, dir_fd=at)
            os.close(at)
            at = following
    except OSError:
        os.close(at)
        raise
    return at


@contextmanager
def connected(host: DirectoryHost, listen: str) -> Iterator[socket.socket]:
    """A connection to the pool's socket."""
    if listen.startswith("/"):
        # A socket's path is limited to about a hundred bytes; that of its descriptor is short, and is no link.
        socket_path = beneath(host, listen)
        try:
            if not stat.S_ISSOCK(os.fstat(socket_path).st_mode):
                raise NoAnswer("there is no socket")
            connection = socket.socket(socket.AF_UNIX)
            connection.settimeout(TIMEOUT)
            connection.connect(f"/proc/self/fd/{socket_path}")
        finally:
            os.close(socket_path)
    else:
        name, _, port = listen.rpartition(":")
        address = "127.0.0.1" if name in ("", "*", "0.0.0.0", "[::]") else name.strip("[]")
        number = whole(port)
        if address not in ("127.0.0.1", "localhost", "::1") or number is None or number > 65535:
            raise NoAnswer("only pools of this machine are asked")
        connection = socket.create_connection((address, number), TIMEOUT)
    with connection, within(connection, TIMEOUT):
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
    for _ in range(MAX_RECORDS):
        if len(head := stream.read(8)) < 8:
            break
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
