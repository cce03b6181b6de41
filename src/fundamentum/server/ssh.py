"""A server reached over SSH: the recorder is sent down one connection, and the recording comes back up it.

The system's own OpenSSH client is used, so that the administrator's configuration, agent and jump hosts apply.
Nothing is installed or left on the far side.
"""

import re
import subprocess
import sys
import tempfile
from typing import Final
from urllib.parse import urlsplit

from fundamentum.errors import InputError
from fundamentum.server import recorder
from fundamentum.server.around import Asked
from fundamentum.server.recording import MAX_ARCHIVE, Recording, open_recording

FRAME: Final = b"\nrecording follows\n"
_CONNECT_TIMEOUT: Final = 20
_HOST: Final = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.:%-]*")
_USER: Final = re.compile(r"[A-Za-z0-9_.][A-Za-z0-9_.@+-]*")


def reach(address: str, *, sudo: bool = False, asked: Asked | None = None) -> Recording:
    """The server at ``ssh://[user@]host[:port]``; an :class:`InputError` that says what to do if it cannot be read."""
    where, destination = _destination(address)
    command = ["ssh", "-T", "-o", f"ConnectTimeout={_CONNECT_TIMEOUT}"]
    if not sys.stderr.isatty():
        command += ["-o", "BatchMode=yes"]  # nobody is there to be asked for a password
    command += ["--", destination, f"exec {'sudo -n ' if sudo else ''}sh -s -- framed"]
    with tempfile.TemporaryFile() as said:
        try:
            process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=said)
        except FileNotFoundError as error:
            raise InputError(where, "the OpenSSH client (ssh) is not installed here") from error
        with process:
            assert process.stdin and process.stdout
            try:
                process.stdin.write(recorder.script(asked).encode())
                process.stdin.close()
            except BrokenPipeError:
                pass  # it ended already; its exit code and words say why
            data = process.stdout.read(MAX_ARCHIVE + 1)
            if len(data) > MAX_ARCHIVE:
                process.kill()
                raise InputError(where, f"sends more than {MAX_ARCHIVE} bytes; no recording")
        said.seek(0)
        words = said.read(65536).decode("utf-8", "replace")
    if process.returncode:
        raise InputError(where, _complaint(process.returncode, words, sudo))
    _, frame, archive = data.partition(FRAME)
    if not frame:
        raise InputError(where, "did not run the recorder; is the login shell there one that runs commands?")
    return open_recording(archive, where)


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
    whole = f"ssh://{user + '@' if user else ''}{name}{f':{port}' if port else ''}"
    return whole, whole


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
