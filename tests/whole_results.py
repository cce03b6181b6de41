"""What surveys, judgements and plans tell as a whole, held in files: a test looks at a part, and the rest shows too.

    WHOLE_RESULTS=write python -m pytest -n 0 tests/check/test_states.py

writes them anew for those tests, into ``results/`` beside them.  A result stands there as the lines that differ from
another one of the same kind in that file, so that what a case changes is what one reads.
"""

import difflib
import io
import os
import re
from collections.abc import Callable, Iterator, Sequence
from datetime import date
from functools import cache
from pathlib import Path
from typing import Any, Final, ParamSpec, TypeVar
from unittest.mock import patch

import hypothesis
import msgspec

from fundamentum.check import install_line, judge, risks, survey_differences, trace
from fundamentum.effective import confinement
from fundamentum.hosts import information_page
from fundamentum.kinds.directories import named_rights
from fundamentum.model.findings import Judgement
from fundamentum.model.survey import Survey
from fundamentum.plan import plan_differences, planner
from fundamentum.plan.made_plan import Plan
from fundamentum.platforms import platform
from fundamentum.platforms.redhat import dnf, rpm
from fundamentum.platforms.windows import registry
from fundamentum.prose import requirements
from fundamentum.report.ansible_text import Ours
from fundamentum.report.checks import text as check_text
from fundamentum.report.plans import script
from fundamentum.report.plans import text as plan_text
from fundamentum.report.plans.playbook import play_of
from fundamentum.report.terminal import console_for
from fundamentum.survey import observe, pool_answers, upload_answer

TESTS: Final = Path(__file__).parent
ROOMS: Final = (
    "check",
    "effective",
    "hosts",
    "needs",
    "plan",
    "platforms",
    "prose",
    "report",
    "sites",
    "survey",
    "visits",
    "webservers",
)
"""Whose results are held.  Those of commands are, word for word, in tests/cli/outputs."""
WRITING: Final = os.environ.get("WHOLE_RESULTS") == "write"
TODAY: Final = date(2026, 11, 26)
MOST_BASES: Final = 8
WATCHED: Final = (
    (observe, "survey"),
    (information_page, "survey_page"),
    (judge, "check"),
    (planner, "plan"),
    (trace, "trace"),
    (survey_differences, "compare"),
    (requirements, "requirements"),
    (dnf, "probe"),
    (rpm, "probe"),
    (registry, "read"),
    (risks, "risks"),
    (install_line, "translated"),
    (confinement, "judge_command"),
    (confinement, "judge_directory"),
    (plan_differences, "plan_differences"),
    (pool_answers, "parsed"),
    (named_rights, "judged_by_name"),
    (upload_answer, "survey_upload"),
)
"""The functions whose results are held: module and name."""
_ANOTHER_TIME: Final = re.compile(
    r"(?<=sha256:)\w+|(?<=names:)\w+|(?<=: time:)[\d:]+|(?<=127\.0\.0\.1:)\d{5}|(?<=\.taken: )\d+|(?<=\.modified: )\d+|(?<=\.fetched: )\d+|(?<=fundamentum-)[0-9a-f]{16}"
)
_FOLDER: Final = re.compile(r"/[^\s'\":]*pytest-of-[^/]+/pytest-\d+/(?:popen-gw\d+/)?[^/\s'\":]+")
P = ParamSpec("P")
R = TypeVar("R")


class Held(msgspec.Struct):
    """The results of one file of tests."""

    bases: dict[str, list[list[str]]] = {}
    """Kind of result → whole ones that others are held against."""
    results: dict[str, list[tuple[str, int, list[str]]]] = {}
    """Test → for each result in turn its kind, which base it is held against, and the lines that differ."""


def leaves(value: Any, at: str = "") -> Iterator[str]:
    """A structure as lines, each with the way to a value and the value."""
    if isinstance(value, dict):
        for name, below in value.items():
            yield from leaves(below, f"{at}.{name}")
    elif isinstance(value, list | tuple):
        for below in value:
            yield from leaves(below, f"{at}[]")
    elif value not in ("", None, False):
        yield f"{at}:{' (ours)' if isinstance(value, Ours) else ''} {value}"


def lines_of(result: object, survey: Survey | None) -> list[str]:
    """A judgement and a plan as a person reads them; anything else as its structure.

    Of the script and the playbook of a plan there is what is their own, without what all have in common.
    """
    written = io.StringIO()
    with patch.dict(os.environ, {"COLUMNS": "200", "NO_COLOR": "1"}):
        if isinstance(result, Judgement) and survey:
            check_text.write_check(console_for(written), [result], survey, today=TODAY, detail="verbose")
        elif isinstance(result, Plan):
            plan_text.write_plan(console_for(written), result, full=True)
            of = platform(result.family)
            if of.script_language == "sh" and of.carried_out:
                written.write(script.as_script(result).partition("\n# What the plan is written in")[0])
                play = {part: told for part, told in play_of(result).items() if part != "vars"}
                written.write("\n" + "\n".join(leaves(play)))
        else:
            whole = msgspec.structs.replace(result, offers=None) if isinstance(result, Survey) else result
            written.write(
                "\n".join(leaves(msgspec.to_builtins(whole, str_keys=True, enc_hook=repr, order="deterministic")))
            )
    text = _ANOTHER_TIME.sub("", written.getvalue())
    return (_FOLDER.sub("", text) if "/pytest-of-" in text else text).splitlines()


def differing(base: Sequence[str], lines: Sequence[str]) -> list[str]:
    """The lines that are not those of the base, with the sign of a difference."""
    shown = difflib.unified_diff(base, lines, n=0, lineterm="")
    return [line for line in shown if not line.startswith(("---", "+++", "@@"))]


def file_of(test: str) -> Path:
    """Where the results of a test are held."""
    module = TESTS.parent / test.partition("::")[0]
    return module.parent / "results" / f"{module.stem}.json"


@cache
def held_in(path: Path) -> Held:
    """What is held in a file; nothing when it is to be written."""
    if WRITING:
        return _written.setdefault(path, Held())
    return msgspec.json.decode(path.read_bytes(), type=Held) if path.exists() else Held()


_written: dict[Path, Held] = {}
_turns: dict[str, int] = {}


def look_at(kind: str, result: object, survey: Survey | None) -> None:
    """Hold one more result of the test that is being run against the one that is kept."""
    test = os.environ.get("PYTEST_CURRENT_TEST", "").rpartition(" (")[0]
    if test.split("/")[1:2] not in [[room] for room in ROOMS] or hypothesis.currently_in_test_context():
        return
    if os.geteuid() != 0:
        return  # the files of these servers are another user's
    held, name, lines = held_in(file_of(test)), test.partition("::")[2], lines_of(result, survey)
    if WRITING:
        held.results.setdefault(name, []).append((kind, *_entered(held.bases.setdefault(kind, []), lines)))
        return
    turn = _turns[test] = _turns.get(test, -1) + 1
    kept = held.results.get(name, [])[turn:]
    assert kept, f"no {kind} of this test is held: see tests/whole_results.py"
    of, base, expected = kept[0]
    told = differing(held.bases[of][base], lines)
    assert (kind, told) == (of, expected), "\n".join(("see tests/whole_results.py", *differing(expected, told)))


def _entered(bases: list[list[str]], lines: list[str]) -> tuple[int, list[str]]:
    """The base that a result is nearest to, and the lines that differ; itself, if it is near to none."""
    options = [(differing(base, lines), number) for number, base in enumerate(bases)]
    least, number = min(options, key=lambda option: len(option[0]), default=(lines, 0))
    far = len(least) > len(lines) // 2 and len(lines) > 20
    if not bases or (far and len(bases) < MOST_BASES):
        bases.append(lines)
        return len(bases) - 1, []
    return number, least


def write_all() -> None:
    """At the end of a run that writes."""
    for path, held in _written.items():
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(msgspec.json.format(msgspec.json.encode(held), indent=1) + b"\n")


def watched(make: Callable[P, R], kind: str) -> Callable[P, R]:
    """The same function, whose results are looked at."""

    def made(*arguments: P.args, **named: P.kwargs) -> R:
        result = make(*arguments, **named)
        look_at(kind, result, next((argument for argument in arguments if isinstance(argument, Survey)), None))
        return result

    return made


def watch() -> None:
    """From now on the results of these functions are looked at, when a test calls them."""
    for module, name in WATCHED:
        kind = name if name != "probe" else module.__name__.rpartition(".")[2]
        setattr(module, name, watched(getattr(module, name), kind))
