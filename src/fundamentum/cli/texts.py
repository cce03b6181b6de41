"""Texts as applications: an installer's complaints or a page of requirements, pasted or saved."""

import argparse
import os
import sys
from pathlib import Path
from typing import Final

from msgspec.structs import replace

from fundamentum.cli.derivation import derived
from fundamentum.cli.messages import write_remarks
from fundamentum.errors import InputError
from fundamentum.model.needs import Needs, PhpNeed
from fundamentum.needs.file import MAX_SIZE, parse
from fundamentum.prose.requirements import Understood, requirements

MAX_SHOWN: Final = 20
"""Sentences that are not understood and are told."""


PASTED: Final = "pasted.txt"
"""What a text is called that comes from standard input."""


def pasted() -> bytes:
    """What standard input has."""
    data = sys.stdin.buffer.read(MAX_SIZE + 1)
    if len(data) > MAX_SIZE:
        raise InputError("-", f"larger than {MAX_SIZE} bytes: no text of requirements")
    return data


def of_standard_input() -> Needs:
    """The needs that a pasted text names."""
    return of_text(pasted(), PASTED)


def of_text(data: bytes, where: str) -> Needs:
    """The needs that a text names; what is not understood of it is remarked."""
    understood = requirements(data, where)
    write_remarks(not_understood(understood, where))
    # A file with a table about the web server asks for more than the one sentence that led to it.
    named = any(statement.key == "server" for _, statements in understood.sentences for statement in statements)
    unasked = {"web:listing", "web:home"} | (set() if named else {"web:served"})
    kept = tuple(need for need in understood.needs.needs if need.key not in unasked)
    return replace(understood.needs, needs=kept, from_text=True)


def not_understood(understood: Understood, where: str) -> list[str]:
    """A line for each sentence of which nothing was understood."""
    lines = [f"{where}:{line.number}: not understood: {line.text[:160]}" for line in understood.rest[:MAX_SHOWN]]
    not_shown = len(understood.rest) - MAX_SHOWN
    return [*lines, f"{where}: and {not_shown} more sentences"] if not_shown > 0 else lines


def here(options: argparse.Namespace) -> Path | None:
    """The application's directory, where it can be looked into from here: on this machine, or in a root directory."""
    directory, server = getattr(options, "directory", None), getattr(options, "server", None)
    if not directory or not directory.startswith("/"):
        return None
    if server is None:
        return Path(directory) if Path(directory).is_dir() else None
    root = Path(server)
    if "://" in server or not root.is_dir():
        return None
    inside = Path(os.path.realpath(root / directory.lstrip("/")))
    return inside if inside.is_dir() and inside.is_relative_to(os.path.realpath(root)) else None


def with_directory(needs: Needs, directory: Path) -> Needs:
    """The needs of a text, and what else the application's directory tells that it has not complained of yet."""
    answer = derived(directory)
    write_remarks(answer.remarks)
    application = parse(answer.text, f"{answer.name} (derived)")
    known = [need.key for need in needs.needs if not isinstance(need, PhpNeed) or need.versions.alternatives]
    others = tuple(
        need for need in application.needs if not any(key.covers(need.key) or need.key.covers(key) for key in known)
    )
    kept = tuple(need for need in needs.needs if need.key in known)
    notes = {
        str(need.key): f"not complained of yet; {application.note(need.key) or 'derived'}"[:300] for need in others
    }
    return replace(
        needs,
        name=application.name,
        version=application.version,
        needs=(*kept, *others),
        notes={**notes, **needs.notes},
    )
