"""``fundamentum derive``."""

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from fundamentum.cli import inputs
from fundamentum.errors import InputError
from fundamentum.report.stream import write_out
from fundamentum.untrusted.files import named, read_named

if TYPE_CHECKING:
    from fundamentum.derive.kept import Answer


def run(options: argparse.Namespace) -> int:
    """Derive an application's needs: a summary, the evidence for one of them, or a needs file."""
    answer = inputs.derived(named(options.directory, "an application's directory"), fresh=options.fresh)
    inputs.remark(answer)
    if options.explain is not None:
        from fundamentum.report import derive_text, text  # noqa: PLC0415 — a needs file needs no terminal library

        derived = answer.derived()
        found = derive_text.explained(derived, options.explain)
        if not found:
            raise InputError(options.directory, f"nothing in it speaks of '{options.explain}'")
        derive_text.write_explained(text.console_for(sys.stdout), derived, found)
    elif options.output is None:
        from fundamentum.report import derive_text, text  # noqa: PLC0415

        derive_text.write_derived(text.console_for(sys.stdout), answer.derived())
    elif options.output == "-":
        write_out(answer.text)
    else:
        inputs.write_whole(options.output, _over(options.output, answer).encode("utf-8"))
    return 0


def _over(target: str, answer: "Answer") -> str:
    """The needs file, over the one that is there."""
    from fundamentum.derive.written import rederived  # noqa: PLC0415 — brings a TOML library
    from fundamentum.needs.file import MAX_SIZE  # noqa: PLC0415

    path = Path(target)
    if not path.is_file() or not path.stat().st_size:
        return answer.text
    try:
        old = read_named(path, MAX_SIZE, "a needs file").decode("utf-8")
    except UnicodeDecodeError as error:
        raise InputError(target, "not UTF-8") from error
    new = rederived(old, target, answer.derived())
    for line in new.changes:
        sys.stderr.write(inputs.one_line(line) + "\n")
    for line in new.kept:
        sys.stderr.write(inputs.one_line(f"kept as you wrote it: {line}") + "\n")
    if not new.changes:
        sys.stderr.write("nothing changed\n")
    return new.text
