"""What a server's reference leads to: the machine itself, a root directory, SSH, a file, or an address."""

from pathlib import Path
from typing import Final
from urllib.parse import urlsplit

from msgspec.structs import replace

from fundamentum.errors import InputError
from fundamentum.server.around import Asked
from fundamentum.server.directory_host import DirectoryHost, this_machine
from fundamentum.server.model import Survey
from fundamentum.server.survey import read, survey

MAX_FILE: Final = 512 * 1024 * 1024
FETCH_TIMEOUT: Final = 20
ROOT_SIGNS: Final = (
    "etc/os-release",
    "usr/lib/os-release",
    "var/lib/dpkg/status",
    "var/lib/rpm",
    "usr/lib/sysimage/rpm",
    "etc/php",
    "usr/local/bin/php",
)


def look(reference: str | None, *, sudo: bool = False, ask_pools: bool = False, asked: Asked | None = None) -> Survey:
    """The survey of the server that is meant.

    ``sudo`` reads over SSH as root.  ``ask_pools`` also asks running pools over FastCGI, on this machine or in a root
    directory.  ``asked`` is what applications ask about beside what concerns PHP itself.  Raises
    :class:`InputError`, in words for the user.
    """
    over_ssh = reference is not None and reference.startswith("ssh://")
    path = Path("/" if reference is None else reference)
    if sudo and not over_ssh:
        raise InputError(_shown(reference), "--sudo is for servers reached over ssh://")
    if ask_pools and (reference is not None and ("://" in reference or not path.is_dir())):
        raise InputError(_shown(reference), "--ask-pools needs the server itself: this machine, or its root directory")
    if over_ssh:
        from fundamentum.server.ssh import reach  # noqa: PLC0415 — each way is loaded where it is taken

        return survey(reach(reference or "", sudo=sudo, asked=asked), asked)
    if reference is not None and "://" in reference:
        return _from_address(reference)
    if reference is not None and not path.is_dir():
        return _from_file(path, reference, asked)
    found = survey(this_machine() if reference is None else _directory(path, reference), asked)
    if asked and asked.products and (reference is None or str(path.resolve()) == "/"):
        from fundamentum.server.greeting import here  # noqa: PLC0415

        found = replace(found, databases=here())
    if ask_pools:
        from fundamentum.server.asking import ask_pools as ask  # noqa: PLC0415

        found = ask(found, path)
    return found


def _shown(reference: str | None) -> str:
    """A reference as it may stand in a message: an address without what may be a password in it."""
    if reference is None:
        return "this machine"
    return f"{reference.partition('://')[0]}://…" if "://" in reference else reference


def _directory(path: Path, word: str) -> DirectoryHost:
    name = path.resolve().name or "root"
    if any((path / sign).exists() or (path / sign).is_symlink() for sign in ROOT_SIGNS):
        return DirectoryHost(path, name, live=str(path.resolve()) == "/")
    from fundamentum.server.windows_host import WindowsHost  # noqa: PLC0415 — seldom needed

    windows = WindowsHost(path, name)
    if windows.holds_php():
        return windows
    signs = ", ".join(ROOT_SIGNS)
    raise InputError(word, f"is no root file system and holds no PHP for Windows: none of {signs}, no php.exe")


def _from_file(path: Path, word: str, asked: Asked | None) -> Survey:
    try:
        with path.open("rb") as stream:
            data = stream.read(MAX_FILE + 1)
    except OSError as error:
        raise InputError(word, f"cannot be read: {error.strerror}") from error
    if len(data) > MAX_FILE:
        raise InputError(word, f"larger than {MAX_FILE} bytes; neither a survey nor a recording")
    if data[:2] == b"\x1f\x8b" or data[257:262] == b"ustar":
        from fundamentum.server.recording import open_recording  # noqa: PLC0415

        return survey(open_recording(data, word), asked)
    if data.lstrip()[:1] != b"{" and path.suffix != ".json":
        from fundamentum.server.page import is_page, survey_page  # noqa: PLC0415

        if is_page(data):
            return survey_page(data, word)
        raise InputError(word, "is neither a survey, nor a recording, nor an information page")
    return read(data, word)


def _from_address(address: str) -> Survey:
    """An information page that a web server shows."""
    from fundamentum.server.page import MAX_PAGE, is_page, survey_page  # noqa: PLC0415

    try:
        parts = urlsplit(address)
        where = f"{parts.scheme}://{parts.hostname or ''}{f':{parts.port}' if parts.port else ''}{parts.path}"
    except ValueError as error:
        raise InputError(_shown(address), f"is no address ({error})") from error
    if parts.scheme not in ("http", "https") or not parts.hostname:
        what = "is no way to reach a server; write ssh://[user@]host, or the http(s) address of an information page"
        raise InputError(_shown(address), what)
    import requests  # noqa: PLC0415 — slow to import

    try:
        with requests.get(address, timeout=FETCH_TIMEOUT, stream=True) as answer:
            code = answer.status_code
            data = answer.raw.read(MAX_PAGE + 1, decode_content=True)
    except (requests.RequestException, OSError) as error:
        raise InputError(where, f"does not answer ({_reason(error)})") from error
    if code != 200:
        raise InputError(where, f"answers with status {code}, not with an information page")
    if not is_page(data):
        raise InputError(where, "answers, but not with an information page")
    return survey_page(data, where, where)


def _reason(error: BaseException) -> str:
    """The innermost cause in a few words: what wraps it repeats the address, with all that may be in it."""
    while (cause := error.__cause__ or error.__context__) is not None:
        error = cause
    if isinstance(error, OSError) and error.strerror:
        return error.strerror
    return type(error).__name__
