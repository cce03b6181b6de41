"""The ``fundamentum`` program: parse the command line, run one command, turn errors into exit codes.

It is started for every question that a script asks, so that this module, and those it imports, leave out of the
standard library what takes longer to load than a command line to parse.
"""

import contextlib
import gc
import os
import sys
from collections.abc import Sequence

from fundamentum import __version__
from fundamentum.cli.exit_codes import FAILURE, INTERRUPTED, USAGE_ERROR
from fundamentum.cli.messages import one_line
from fundamentum.entries import entry
from fundamentum.errors import FundamentumError, InputErrors
from fundamentum.report.broken_pipe import nobody_reads


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command.  Returns the exit code."""
    sys.unraisablehook = _unraisable
    gc.disable()  # one short run makes no garbage worth a tenth of its time; what is referred to no more still goes
    words = sys.argv[1:] if arguments is None else list(arguments)
    _standard_streams()
    code = 0
    debug = "--debug" in words
    try:
        code = _answered(words)
        sys.stdout.flush()
        return code
    except InputErrors as error:
        return max(_ended(line, USAGE_ERROR) for line in str(error).split("\n"))
    except FundamentumError as error:
        return _ended(str(error), USAGE_ERROR)
    except KeyboardInterrupt:
        sys.stderr.write("interrupted\n")
        return INTERRUPTED
    except BrokenPipeError:
        nobody_reads()
        return code
    except OSError as error:
        if debug:
            sys.excepthook(*sys.exc_info())
        return _ended(f"{error.filename or 'output'}: {error.strerror or type(error).__name__}", USAGE_ERROR)
    except Exception as error:  # the program's own fault, which must not look like an answer
        if debug:
            sys.excepthook(*sys.exc_info())
        return _ended(_failure(error, debug), FAILURE)


def _answered(words: list[str]) -> int:
    """What the command line asks for; what it asks is parsed by a library that only the version does without."""
    if words == ["--version"]:
        sys.stdout.write(f"fundamentum {__version__}\n")
        return 0
    options = entry("fundamentum.cli", "arguments").parser(*words[:1]).parse_args(words)
    if options.color != "auto":
        os.environ["NO_COLOR" if options.color == "never" else "FUNDAMENTUM_COLOR"] = "1"
    code: int = entry("fundamentum.cli", options.command or "demo").run(options)
    return code


def program() -> None:
    """The installed program: one command, then the end of the process."""
    code = main()
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError):  # the exit code says already what there is to say
            stream.flush()
    if "coverage" in sys.modules:  # which writes down what ran at the end of the interpreter
        sys.exit(code)
    os._exit(code)  # the system frees memory at once; the interpreter takes up to a tenth of a second for it


def _unraisable(ignored: "sys.UnraisableHookArgs") -> None:
    try:
        entry("fundamentum", "interruption").unraisable(ignored)
    except KeyboardInterrupt:  # while that was loaded: nobody else gets to see it
        entry("fundamentum", "interruption").once_more()


def _standard_streams() -> None:
    """Streams that were closed before the program began go nowhere; the others take any text."""
    for number, mode in enumerate(("r", "w", "w")):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDONLY if mode == "r" else os.O_WRONLY)  # takes the lowest number that is free
    sys.stdin = sys.stdin or open(0, encoding="utf-8", closefd=False)  # noqa: SIM115 — open as long as we run
    sys.stdout = sys.stdout or open(1, "w", encoding="utf-8", closefd=False)  # noqa: SIM115
    sys.stderr = sys.stderr or open(2, "w", encoding="utf-8", closefd=False)  # noqa: SIM115
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(AttributeError, ValueError):  # one that a caller put in its place
            stream.reconfigure(errors="backslashreplace")  # type: ignore[union-attr]


def _failure(error: Exception, debug: bool) -> str:
    """What failed, where, and what to do about it; no value of a server's is repeated."""
    last = error.__traceback__
    while last and last.tb_next:
        last = last.tb_next
    where = f" in {os.path.basename(last.tb_frame.f_code.co_filename)}:{last.tb_lineno}" if last else ""
    ask = "report the lines above" if debug else "run it again with --debug and report what it prints"
    return f"the program itself failed ({type(error).__name__}{where}); {ask}, see 'When it fails' in the README"


def _ended(message: str, code: int) -> int:
    sys.stderr.write(f"fundamentum: {one_line(message)}\n")
    return code
