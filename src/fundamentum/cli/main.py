"""The ``fundamentum`` program: parse the command line, run one command, turn errors into exit codes."""

import argparse
import contextlib
import gc
import os
import sys
from collections.abc import Sequence
from typing import NoReturn

from fundamentum.cli.arguments import COMMANDS, USAGE_ERROR, parser
from fundamentum.errors import FundamentumError
from fundamentum.report.stream import nobody_reads

INTERRUPTED = 130


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command.  Returns the exit code."""
    gc.disable()  # one short run makes no garbage worth a tenth of its time; what is referred to no more still goes
    words = sys.argv[1:] if arguments is None else list(arguments)
    options = parser(words[0] if words and words[0] in COMMANDS else "").parse_args(words)
    for stream in (sys.stdout, sys.stderr):
        stream.reconfigure(errors="backslashreplace")  # type: ignore[union-attr]
    code = 0
    try:
        code = _run(options)
        sys.stdout.flush()
        return code
    except FundamentumError as error:
        return _failed(str(error))
    except KeyboardInterrupt:
        sys.stderr.write("interrupted\n")
        return INTERRUPTED
    except BrokenPipeError:
        nobody_reads()
        return code
    except OSError as error:
        return _failed(f"{error.filename or 'output'}: {error.strerror}")


def program() -> NoReturn:
    """The installed program: one command, then the end of the process."""
    code = main()
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError):  # the exit code says already what there is to say
            stream.flush()
    os._exit(code)  # the system frees memory at once; the interpreter takes up to a tenth of a second for it


def _run(options: argparse.Namespace) -> int:
    match options.command:
        case "check":
            from fundamentum.cli import check as command  # noqa: PLC0415
        case "plan":
            from fundamentum.cli import plan as command  # type: ignore[no-redef] # noqa: PLC0415
        case "compare":
            from fundamentum.cli import compare as command  # type: ignore[no-redef] # noqa: PLC0415
        case "derive":
            from fundamentum.cli import derive as command  # type: ignore[no-redef] # noqa: PLC0415
        case "trace":
            from fundamentum.cli import trace as command  # type: ignore[no-redef] # noqa: PLC0415
        case "survey":
            from fundamentum.cli import survey as command  # type: ignore[no-redef] # noqa: PLC0415
        case _:
            from fundamentum.cli import demo as command  # type: ignore[no-redef] # noqa: PLC0415
    return command.run(options)


def _failed(message: str) -> int:
    line = "".join(c if c.isprintable() else "?" for c in " ".join(message.split("\n")))
    sys.stderr.write(f"fundamentum: {line}\n")
    return USAGE_ERROR
