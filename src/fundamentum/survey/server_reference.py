"""What a server's reference leads to: the machine itself, a root directory, SSH, a file, or an address."""

from pathlib import Path
from typing import Final, Literal, cast

from msgspec.structs import replace

from fundamentum.entries import entry
from fundamentum.errors import InputError
from fundamentum.hosts.directory import DirectoryHost, this_machine
from fundamentum.hosts.windows_directory import WindowsHost
from fundamentum.model.safe_text import scrubbed
from fundamentum.model.surrounding_facts import Asked
from fundamentum.model.survey import Survey
from fundamentum.platforms import names, platform
from fundamentum.survey.observe import survey
from fundamentum.survey.survey_file import read
from fundamentum.untrusted.files import named, read_named

SIGN: Final = b'{"recorded_by":"php"'
"""How the answer of the file begins that is uploaded where there is no shell."""
MAX_FILE: Final = 128 * 1024 * 1024
"""Bytes of a survey, a recording or a page."""


Asking = Literal["files", "running", "with-file"]
"""Whether files alone are read, or what runs is asked too; with a file of ours in document roots for a moment."""


def look(reference: str | None, *, sudo: bool = False, ask: Asking = "files", asked: Asked | None = None) -> Survey:
    """The survey of the server that is meant.

    ``sudo`` reads over SSH as root.  ``ask`` also asks running pools and sites, on this machine or in a root directory.
    ``asked`` is what applications ask about beside what concerns PHP itself.  Raises :class:`InputError`, in words for
    the user.
    """
    over_ssh = reference is not None and reference.startswith("ssh://")
    path = named("/" if reference is None else reference, "a server: left out, it is this machine")
    if sudo and not over_ssh:
        raise InputError(_shown(reference), "--sudo is for servers reached over ssh://")
    if ask != "files" and (reference is not None and ("://" in reference or not path.is_dir())):
        raise InputError(_shown(reference), "--ask needs the server itself: this machine, or its root directory")
    if over_ssh:
        script = entry("fundamentum.survey", "recorder").script(asked)
        return survey(entry("fundamentum.hosts", "ssh").reach(reference or "", script, sudo=sudo), asked)
    if reference is not None and "://" in reference:
        return scrubbed(cast(Survey, entry("fundamentum.hosts", "information_page_address").survey_address(reference)))
    if reference is not None and not path.is_dir():
        return _from_file(path, reference, asked)
    surveyed = survey(this_machine() if reference is None else _directory(path, reference), asked)
    here = reference is None or str(path.resolve()) == "/"
    with_answers = _with_answers(surveyed, path, asked, ask, here=here)
    return surveyed if with_answers is surveyed else scrubbed(with_answers)


def _with_answers(surveyed: Survey, path: Path, asked: Asked | None, ask: Asking, *, here: bool) -> Survey:
    """The survey with what programs answer that run; ``here``: on this machine."""
    if here and asked and asked.packages:
        surveyed = replace(surveyed, databases=entry("fundamentum.survey", "database_greeting").here())
    if here and asked and asked.greetings:
        greetings = entry("fundamentum.survey", "service_greeting").here(asked.greetings)
        surveyed = replace(surveyed, answers={**surveyed.answers, **greetings})
    if here and ask != "files":
        surveyed = entry("fundamentum.survey", "command_versions").with_versions(surveyed)
    if ask != "files":
        surveyed = entry("fundamentum.survey", "pool_answers").ask_pools(surveyed, path)
        surveyed = entry("fundamentum.survey", "site_answers").ask_sites(surveyed, path, with_file=ask == "with-file")
    return surveyed


def host_of(reference: str | None) -> DirectoryHost:
    """A server that is read as files: this machine, or the root directory that is meant."""
    return this_machine() if reference is None else _directory(Path(reference), reference)


def _root_signs() -> list[str]:
    """Paths of which a root file system has one."""
    return ["etc/os-release", "usr/lib/os-release", *(sign for name in names() for sign in platform(name).root_signs)]


def _shown(reference: str | None) -> str:
    """A reference as it may stand in a message: an address without what may be a password in it."""
    if reference is None:
        return "this machine"
    return f"{reference.partition('://')[0]}://…" if "://" in reference else reference


def _directory(path: Path, word: str) -> DirectoryHost:
    name = path.resolve().name or "root"
    if any((path / sign).exists() or (path / sign).is_symlink() for sign in _root_signs()):
        return DirectoryHost(path, name, live=str(path.resolve()) == "/")
    windows = WindowsHost(path, name)
    if windows.holds_php():
        return windows
    signs = ", ".join(_root_signs())
    raise InputError(word, f"is no root file system and holds no PHP for Windows: none of {signs}, no php.exe")


def _from_file(path: Path, word: str, asked: Asked | None) -> Survey:
    data = read_named(path, MAX_FILE, "a survey, a recording or an information page", word)
    if data[:2] == b"\x1f\x8b" or data[257:262] == b"ustar":
        return survey(entry("fundamentum.hosts", "recording").open_recording(data, word), asked)
    if data.startswith(SIGN):
        return scrubbed(cast(Survey, entry("fundamentum.survey", "upload_answer").survey_upload(data, word)))
    if data.lstrip()[:1] != b"{" and path.suffix != ".json":
        page = entry("fundamentum.hosts", "information_page")
        if page.is_page(data):
            return scrubbed(cast(Survey, page.survey_page(data, word)))
        raise InputError(word, "is neither a survey, nor a recording, nor an information page")
    return scrubbed(read(data, word))
