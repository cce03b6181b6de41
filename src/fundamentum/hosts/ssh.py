"""A server reached over SSH: the recorder is sent down one connection, and the recording comes back up it.

The system's own OpenSSH client is used, so that the administrator's configuration, agent and jump hosts apply.
Nothing is installed or left on the far side.
"""

import subprocess
import sys
import threading
from contextlib import suppress
from typing import Final
from urllib.parse import urlsplit

from fundamentum.errors import InputError
from fundamentum.hosts.recording import Recording, open_recording
from fundamentum.hosts.recording_archive import MAX_ARCHIVE
from fundamentum.lazy_regex import lazy_regex

FRAME: Final = b"\nrecording follows\n"
_CONNECT_TIMEOUT: Final = 20
PATIENCE: Final = 300
"""Seconds for the whole recording: the recorder looks at everything before it sends the first byte."""
_HOST: Final = lazy_regex(r"[A-Za-z0-9_:][A-Za-z0-9_.:%-]*")
_USER: Final = lazy_regex(r"[A-Za-z0-9_.][A-Za-z0-9_.@+-]*")


def reach(address: str, recorder: str, *, sudo: bool = False) -> Recording:
    """The server at ``ssh://[user@]host[:port]``; an :class:`InputError` that says what to do if it cannot be read."""
    where, destination = _destination(address)
    command = ["ssh", "-T", "-o", f"ConnectTimeout={_CONNECT_TIMEOUT}"]
    if not sys.stderr.isatty():
        command += ["-o", "BatchMode=yes"]  # nobody is there to be asked for a password
    command += ["--", destination, f"exec {'sudo -n ' if sudo else ''}sh -s -- framed"]
    try:
        process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    except FileNotFoundError as error:
        raise InputError(where, "the OpenSSH client (ssh) is not installed here") from error
    said: list[bytes] = []
    listening = threading.Thread(target=_heard, args=(process, said), daemon=True)
    ending = threading.Timer(PATIENCE, process.kill)
    ending.daemon = True
    with process:
        assert process.stdin and process.stdout
        listening.start()
        ending.start()
        try:
            process.stdin.write(recorder.encode())
            process.stdin.close()
        except BrokenPipeError:
            pass  # it ended already; its exit code and words say why
        data = process.stdout.read(MAX_ARCHIVE + 1)
        if len(data) > MAX_ARCHIVE:
            process.kill()
            raise InputError(where, f"sends more than {MAX_ARCHIVE} bytes; no recording")
    late = not ending.is_alive()
    ending.cancel()
    listening.join(1)
    words = b"".join(said).decode("utf-8", "replace")
    if late:
        raise InputError(where, f"has not sent its recording within {PATIENCE} seconds")
    if process.returncode:
        raise InputError(where, _complaint(process.returncode, words, sudo))
    start = data.find(FRAME)
    if start < 0:
        raise InputError(where, "did not run the recorder; is the login shell there one that runs commands?")
    data = data[start + len(FRAME) :]  # in its own place, so that the whole is in memory only once
    return open_recording(data, where)


def _heard(process: "subprocess.Popen[bytes]", said: list[bytes]) -> None:
    """The first words on standard error; what follows them goes nowhere."""
    assert process.stderr
    with suppress(OSError, ValueError):  # it is closed once the process has ended
        said.append(process.stderr.read(65536))
        while process.stderr.read(65536):
            pass


def _destination(address: str) -> tuple[str, str]:
    """The address as it may be shown, and as OpenSSH takes it."""
    try:
        parts = urlsplit(address)
        port = parts.port
    except ValueError as error:
        raise InputError("ssh://…", f"is no address ({error}); write ssh://[user@]host[:port]") from error
    host, user = parts.hostname or "", parts.username
    if parts.password is not None:
        raise InputError(f"ssh://{host}", "a password does not belong in an address; use a key or an agent")
    if (
        not _HOST.fullmatch(host)
        or not _USER.fullmatch(user or "x")
        or parts.path.strip("/") + parts.query + parts.fragment
    ):
        raise InputError("ssh://…", "is no address of a server; write ssh://[user@]host[:port]")
    name = f"[{host}]" if ":" in host else host
    reference = f"ssh://{user + '@' if user else ''}{name}{f':{port}' if port else ''}"
    return reference, reference


def _complaint(code: int, words: str, sudo: bool) -> str:
    lines = [line.strip() for line in words.splitlines() if line.strip()]
    last = lines[-1] if lines else f"ssh ended with {code}"
    if code == 255:
        if "Permission denied" in words:
            return f"refuses the login ({last}); load the right key into your agent, or name the user in the address"
        if "Host key verification failed" in words:
            return "its host key is not known here, or is another than before; log in once with ssh and compare it"
        return f"cannot be reached ({last})"
    if sudo and any("sudo" in line for line in lines):
        last = next(line for line in reversed(lines) if "sudo" in line)
        return f"sudo is refused there ({last}); it has to be allowed without a password, or leave --sudo out"
    return f"the recorder failed there ({last})"
