"""What the words on the command line refer to: applications, servers, output files."""

import argparse
import itertools
import os
import sys
import time
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Final

from fundamentum.errors import InputError
from fundamentum.untrusted.files import named

if TYPE_CHECKING:
    from collections.abc import Sequence

    from fundamentum.derive.kept import Answer
    from fundamentum.model.needs import Needs
    from fundamentum.model.surroundings import Asked
    from fundamentum.model.survey import Survey

MAX_NAMES: Final = 20_000
"""Names of an application's directory among which its needs file is looked for."""


def applications(options: argparse.Namespace) -> "list[Needs]":
    """The applications that the options name, with what is accepted of their findings.

    That stands in the files that ``--accepted`` names, which count for all of them, and in ``NAME.accepted.toml``
    beside ``NAME.needs.toml``.  An acceptance that matches nothing is remarked.
    """
    import msgspec  # noqa: PLC0415 — deriving needs none of these

    from fundamentum.needs.accepted import load_accepted, unmatched  # noqa: PLC0415

    common = tuple(one for word in options.accepted for one in load_accepted(named(word), today=date.today()))
    found = []
    for word in options.applications:
        needs, beside = application(word), _beside(word)
        accepted = (*(load_accepted(beside, today=date.today()) if beside else ()), *common)
        found.append(msgspec.structs.replace(needs, accepted=accepted) if accepted else needs)
    for one in unmatched(found):
        sys.stderr.write(one_line(f"remark: {one.where}: '{one.need}' is no need of these applications") + "\n")
    return found


def _beside(word: str) -> Path | None:
    """The file of accepted findings beside a needs file."""
    from fundamentum.needs.accepted import SUFFIX as ACCEPTED  # noqa: PLC0415
    from fundamentum.needs.file import SUFFIX  # noqa: PLC0415

    path = Path(word)
    if path.is_dir():
        found = _needs_files(path)
        if len(found) != 1:
            return None
        path = found[0]
    if not path.name.endswith(SUFFIX):
        return None
    beside = path.with_name(path.name.removesuffix(SUFFIX) + ACCEPTED)
    return beside if beside.is_file() else None


def _needs_files(folder: Path) -> list[Path]:
    """The needs files in a directory, which may be somebody else's: among the first names, and no links out of it."""
    from fundamentum.needs.file import SUFFIX  # noqa: PLC0415

    try:
        with os.scandir(folder) as entries:
            some = [one for one in itertools.islice(entries, MAX_NAMES) if one.name.endswith(SUFFIX)]
            return sorted(folder / one.name for one in some if one.is_file(follow_symlinks=False))
    except OSError as error:
        raise InputError(str(folder), f"cannot be read: {error.strerror}") from error


def application(word: str) -> "Needs":
    """A needs file, the one needs file in a directory, or what an application's directory tells of itself."""
    from fundamentum.needs.file import SUFFIX, load  # noqa: PLC0415 — deriving reads no needs file

    path = named(word, "a needs file or an application's directory")
    if path.is_dir():
        found = _needs_files(path)
        if len(found) > 1:
            names = ", ".join(one.name for one in found)
            raise InputError(word, f"holds several needs files: {names}; name one *{SUFFIX}")
        if not found:
            from fundamentum.needs.file import parse  # noqa: PLC0415

            result = derived(path)
            remark(result)
            return parse(result.text, f"{result.name} (derived)")
        path = found[0]
    return load(path)


def derived(directory: Path, *, fresh: bool = False) -> "Answer":
    """What an application's directory tells of its needs.

    ``fresh``: read the directory even if nothing in it has changed.
    """
    from fundamentum.derive import kept  # noqa: PLC0415
    from fundamentum.derive.listing import Listing  # noqa: PLC0415

    if not directory.is_dir():
        raise InputError(str(directory), "is no directory; name the directory of an application")
    known = not fresh and kept.any_of(str(directory))
    if known and (found := kept.recall(str(directory))) is not None:
        return found
    listing = Listing(str(directory))
    found = kept.recall_listed(listing) if known else None
    if found is None:
        from fundamentum.derive.derive import derive_listed  # noqa: PLC0415

        progress = _Progress()
        try:
            result = derive_listed(listing, progress)
        finally:
            progress.end()
        from fundamentum.derive.written import written  # noqa: PLC0415 — brings a TOML library

        found = kept.answer(result, written(result))
    kept.remember(listing, found)
    return found


def remark(found: "Answer") -> None:
    """What was passed over or is contradictory, on standard error."""
    for line in found.remarks:
        sys.stderr.write(one_line(f"remark: {line}") + "\n")


def one_line(text: str) -> str:
    """Text of others on one line, with nothing in it that could steer a terminal."""
    return "".join(c if c.isprintable() else "?" for c in " ".join(text.split("\n")))


class _Progress:
    """One line on a terminal that says how far a long run is."""

    def __init__(self) -> None:
        self.shown = ""
        self.wanted = sys.stderr.isatty()
        self.start = time.monotonic()

    def __call__(self, what: str, done: int, total: int) -> None:
        text = f"{what}: {100 * done // max(total, 1)} % of {total} files"
        if self.wanted and time.monotonic() - self.start > 0.7 and text != self.shown:
            sys.stderr.write(f"\r{text:<50}")
            sys.stderr.flush()
            self.shown = text

    def end(self) -> None:
        if self.shown:
            sys.stderr.write("\r" + " " * 50 + "\r")
            sys.stderr.flush()


def selectors(options: argparse.Namespace, survey: "Survey") -> "list[str | None]":
    """What is to be judged for each application: as the options name it, or the site that stands in its directory."""
    if options.directory is None and options.runtime is None:
        return [_site_of(word, options.server, survey) for word in options.applications]
    if options.directory is None:
        return [options.runtime] * len(options.applications)
    if options.runtime is not None:
        raise InputError("--directory", "names a site, and so does --runtime: give one of them")
    from fundamentum.check.target import site_in  # noqa: PLC0415

    return [site_in(survey, options.directory)] * len(options.applications)


def _site_of(word: str, reference: str | None, survey: "Survey") -> str | None:
    """The site in an application's directory, where that lies on the server that is read as files; else None."""
    root = Path(reference or "/")
    if not root.is_dir() or not Path(word).is_dir():
        return None
    try:
        inside = "/" + str(Path(word).resolve(strict=True).relative_to(root.resolve(strict=True)))
    except (OSError, ValueError):
        return None
    from fundamentum.check.target import site_in, sites_in  # noqa: PLC0415

    return site_in(survey, inside) if inside != "/." and sites_in(survey, inside) else None


def asked(applications: "Sequence[Needs]", commands: "Sequence[str]" = ()) -> "Asked | None":
    """What these applications and commands ask of a survey; None if there are none."""
    if not applications and not commands:
        return None
    from fundamentum.check.asked import asked_by  # noqa: PLC0415 — slow to import, and often there is none

    return asked_by(applications, commands)


def server(
    options: argparse.Namespace, applications: "Sequence[Needs]" = (), commands: "Sequence[str]" = ()
) -> "Survey":
    """The survey of the server that the options name, with what these applications ask about in particular.

    ``commands`` are looked for beside, if they can be the names of any.
    """
    from fundamentum.survey.reference import look  # noqa: PLC0415 — deriving needs no server

    found = look(options.server, sudo=options.sudo, ask=options.ask, asked=asked(applications, commands))
    if getattr(options, "database", None):
        from fundamentum.survey.database_greeting import with_database  # noqa: PLC0415 — only where one is named

        found = with_database(found, options.database)
    return found


def write_below(folder: str, path: str, content: bytes) -> None:
    """Write a file of a server below a folder of one's own, with the directories that it takes."""
    target = Path(named(folder, "the folder to write to"), os.path.normpath("/" + path).lstrip("/"))
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(str(target.parent), f"cannot be made: {error.strerror}") from error
    write_whole(str(target), content)


def write_whole(target: str, content: bytes) -> None:
    """Write a file whole or not at all: into a new file beside it, which then takes its place."""
    path = named(target, "the file to be written")
    if path.exists() and not path.is_file():
        with path.open("wb") as stream:  # a device or pipe cannot be replaced
            stream.write(content)
        return
    import tempfile  # noqa: PLC0415 — slow to import, and most runs write no file

    try:
        descriptor, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    except OSError as error:
        raise InputError(target, f"cannot be written: {error.strerror}") from error
    try:
        with open(descriptor, "wb") as stream:
            stream.write(content)
        mask = os.umask(0)
        os.umask(mask)
        os.chmod(name, 0o666 & ~mask)
        os.replace(name, path)
    except OSError as error:
        Path(name).unlink(missing_ok=True)
        raise InputError(target, f"cannot be written: {error.strerror}") from error
