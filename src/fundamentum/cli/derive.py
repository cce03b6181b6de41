"""``fundamentum derive``."""

import argparse
import sys
from pathlib import Path
from typing import Any

from fundamentum.cli.derivation import derived
from fundamentum.cli.messages import one_line, write_remarks
from fundamentum.cli.output import write_whole
from fundamentum.derive.application.cache import Answer
from fundamentum.entries import entry
from fundamentum.errors import InputError
from fundamentum.report.written_text import write_out
from fundamentum.untrusted.files import named, read_named


def run(options: argparse.Namespace) -> int:
    """Derive an application's needs: a summary, the evidence for one of them, or a needs file."""
    path = named(options.directory, "an application's directory, or a text of requirements")
    if options.newer is None and (options.directory == "-" or _is_text(path)):
        return _of_text(options)
    answer = derived(path, fresh=options.fresh, seconds=options.seconds)
    write_remarks(answer.remarks)
    if options.newer is not None:
        return _releases(options, answer)
    if options.format == "json":
        document = entry("fundamentum.report", "derive_documents").derive_document(answer.derived())
        return _written(options, entry("fundamentum.report", "escape").as_json(document))
    if options.explain is not None:
        result = answer.derived()
        explanation = _text().explained(result, options.explain)
        if not explanation:
            raise InputError(options.directory, f"nothing in it speaks of '{options.explain}'")
        _text().write_explained(_console(), result, explanation)
    elif options.output is None:
        _text().write_derived(_console(), answer.derived())
    elif options.output == "-":
        write_out(answer.text)
    else:
        write_whole(options.output, _over(options.output, answer).encode("utf-8"))
    return 0


def _is_text(path: Path) -> bool:
    """Whether it is a text of requirements, rather than an application's directory or archive."""
    return path.is_file() and path.suffix.lower() in entry("fundamentum.cli", "applications").TEXTS


def _releases(options: argparse.Namespace, old: Answer) -> int:
    """What a newer release needs otherwise; 1 if it does."""
    if options.explain is not None:
        raise InputError("--explain", "is about one application: name one")
    newer = named(options.newer, "the directory of another release")
    new = derived(newer, fresh=options.fresh, seconds=options.seconds)
    write_remarks(new.remarks)
    changes = entry("fundamentum.derive", "release_differences").differences(old.derived(), new.derived())
    titles = [
        f"{answer.name} {answer.derived().version}".strip() if answer.derived().version else word
        for answer, word in ((old, options.directory), (new, options.newer))
    ]
    if options.format == "json":
        document = entry("fundamentum.report", "derive_documents").releases_document(*titles, changes)
        _written(options, entry("fundamentum.report", "escape").as_json(document))
    elif options.output is not None:
        raise InputError("-o", "writes what one release needs, or with --format json what differs")
    else:
        entry("fundamentum.report", "derive_differences").write_differences(_console(), *titles, changes)
    return 1 if changes else 0


def _written(options: argparse.Namespace, text: str) -> int:
    if options.output in (None, "-"):
        write_out(text)
    else:
        write_whole(options.output, text.encode("utf-8"))
    return 0


def _of_text(options: argparse.Namespace) -> int:
    """A text of requirements as a needs file, or what was understood of each of its sentences."""
    texts = entry("fundamentum.cli", "texts")
    if options.directory == "-":
        data, where = texts.pasted(), texts.PASTED
    else:
        data, where = read_named(Path(options.directory), texts.MAX_SIZE, "a text of requirements"), options.directory
    understood = entry("fundamentum.prose", "requirements").requirements(data, where)
    write_remarks(texts.not_understood(understood, where))
    if options.output is None:
        entry("fundamentum.report", "prose_text").write_understood(_console(), understood)
    elif options.output == "-":
        write_out(understood.text)
    else:
        write_whole(options.output, understood.text.encode("utf-8"))
    return 0


def _text() -> Any:
    """The output for a person: a needs file needs no terminal library."""
    return entry("fundamentum.report", "derive_text")


def _console() -> Any:
    return entry("fundamentum.report", "terminal").console_for(sys.stdout)


def _over(target: str, answer: Answer) -> str:
    """The needs file, over the one that is there."""
    path = Path(target)
    if not path.is_file() or not path.stat().st_size:
        return answer.text
    try:
        old = read_named(path, entry("fundamentum.needs", "file").MAX_SIZE, "a needs file").decode("utf-8")
    except UnicodeDecodeError as error:
        raise InputError(target, "not UTF-8") from error
    new = entry("fundamentum.derive", "needs_file").rederived(old, target, answer.derived())
    for line in new.changes:
        sys.stderr.write(one_line(line) + "\n")
    for line in new.kept:
        sys.stderr.write(one_line(f"kept as you wrote it: {line}") + "\n")
    if not new.changes:
        sys.stderr.write("nothing changed\n")
    return str(new.text)
