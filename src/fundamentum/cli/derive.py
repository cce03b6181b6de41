"""``fundamentum derive``."""

import argparse
import sys
from pathlib import Path

from fundamentum.cli import inputs
from fundamentum.derive.result import Derived
from fundamentum.errors import InputError


def run(options: argparse.Namespace) -> int:
    """Derive an application's needs: a summary, the evidence for one of them, or a needs file."""
    derived, needs_file = inputs.derived(Path(options.directory), fresh=options.fresh)
    inputs.remark(derived)
    if options.explain is not None:
        from fundamentum.report import derive_text, text  # noqa: PLC0415 — a needs file needs no terminal library

        found = derive_text.explained(derived, options.explain)
        if not found:
            raise InputError(options.directory, f"nothing in it speaks of '{options.explain}'")
        derive_text.write_explained(text.console_for(sys.stdout), derived, found)
    elif options.output is None:
        from fundamentum.report import derive_text, text  # noqa: PLC0415

        derive_text.write_derived(text.console_for(sys.stdout), derived)
    elif options.output == "-":
        sys.stdout.write(needs_file)
    else:
        inputs.write_whole(options.output, _over(options.output, derived, needs_file).encode("utf-8"))
    return 0


def _over(target: str, derived: Derived, text: str) -> str:
    """The needs file, over the one that is there."""
    from fundamentum.derive.written import rederived  # noqa: PLC0415 — brings a TOML library

    path = Path(target)
    if not path.is_file() or not path.stat().st_size:
        return text
    try:
        old = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(target, f"cannot be read: {error}") from error
    new = rederived(old, target, derived)
    for line in new.changes:
        sys.stderr.write(inputs.one_line(line) + "\n")
    for line in new.kept:
        sys.stderr.write(inputs.one_line(f"kept as you wrote it: {line}") + "\n")
    if not new.changes:
        sys.stderr.write("nothing changed\n")
    return new.text
