"""The applications that the command line names, with what is accepted of their findings."""

import argparse
import itertools
import os
import re
from datetime import date
from pathlib import Path
from typing import Final, cast

from msgspec.structs import replace

from fundamentum.cli.messages import write_remarks
from fundamentum.derive.application.archive_names import is_archive
from fundamentum.entries import entry
from fundamentum.errors import InputError
from fundamentum.model.needs import Needs
from fundamentum.needs.accepted import SUFFIX as ACCEPTED
from fundamentum.needs.accepted import load_accepted, unmatched
from fundamentum.needs.file import MAX_SIZE, SUFFIX, decoded, load, parse
from fundamentum.untrusted.files import named, read_named

TEXTS: Final = frozenset(("", ".txt", ".text", ".md", ".markdown", ".rst", ".html", ".htm", ".log"))
"""How names of files end that may be texts of requirements; one without an ending may be a needs file as well."""
MAX_NAMES: Final = 20_000
"""Names of an application's directory among which its needs file is looked for."""


def applications(options: argparse.Namespace) -> list[Needs]:
    """The applications that the options name, with what is accepted of their findings.

    That stands in the files that ``--accepted`` names, which count for all of them, and in ``NAME.accepted.toml``
    beside ``NAME.needs.toml``.  An acceptance that matches nothing is remarked.
    """

    common = tuple(
        acceptance for word in options.accepted for acceptance in load_accepted(named(word), today=date.today())
    )
    read = []
    for word in options.applications:
        needs, path = application(word), _beside(word)
        if needs.from_text and (where := entry("fundamentum.cli", "texts").here(options)):
            needs = entry("fundamentum.cli", "texts").with_directory(needs, where)
        accepted = (*(load_accepted(path, today=date.today()) if path else ()), *common)
        read.append(replace(needs, accepted=accepted) if accepted else needs)
    write_remarks(
        f"{acceptance.where}: '{acceptance.need}' is no need of these applications" for acceptance in unmatched(read)
    )
    return read


def _beside(word: str) -> Path | None:
    """The file of accepted findings beside a needs file."""
    path = Path(word)
    if path.is_dir():
        paths = needs_files(path)
        if len(paths) != 1:
            return None
        path = paths[0]
    if not path.name.endswith(SUFFIX):
        return None
    file = path.with_name(path.name.removesuffix(SUFFIX) + ACCEPTED)
    return file if file.is_file() else None


def needs_files(folder: Path) -> list[Path]:
    """The needs files in a directory, which may be somebody else's: among the first names, and no links out of it."""
    try:
        with os.scandir(folder) as entries:
            some = [file for file in itertools.islice(entries, MAX_NAMES) if file.name.endswith(SUFFIX)]
            return sorted(folder / file.name for file in some if file.is_file(follow_symlinks=False))
    except OSError as error:
        raise InputError(str(folder), f"cannot be read: {error.strerror}") from error


def application(word: str) -> Needs:
    """A needs file, the one needs file in a directory, or what an application's directory tells of itself.

    Or a text, pasted (``-``) or saved: an installer's complaints, a page of requirements.
    """
    if word == "-":
        return cast(Needs, entry("fundamentum.cli", "texts").of_standard_input())
    path = named(word, "a needs file or an application's directory")
    if path.is_dir():
        paths = needs_files(path)
        if len(paths) > 1:
            names = ", ".join(file.name for file in paths)
            raise InputError(word, f"holds several needs files: {names}; name one *{SUFFIX}")
        if not paths:
            result = entry("fundamentum.cli", "derivation").derived(path)
            write_remarks(result.remarks)
            return parse(result.text, f"{result.name} (derived)")
        path = paths[0]
    if path.is_file() and is_archive(path):
        result = entry("fundamentum.cli", "derivation").derived(path)
        write_remarks(result.remarks)
        return parse(result.text, f"{result.name} (derived)")
    if path.suffix.lower() not in TEXTS:
        return load(path)
    data = read_named(path, MAX_SIZE, "a needs file, or a text of requirements")
    if re.search(rb"^[ \t]*format[ \t]*=", data, re.M) and re.search(rb"^[ \t]*\[application\]", data, re.M):
        return parse(decoded(data, path), str(path))
    return cast(Needs, entry("fundamentum.cli", "texts").of_text(data, word))
