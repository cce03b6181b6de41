"""A plan in one file: everything that other formats are made of, read back only as it was written."""

import io
import json
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.entries import entry
from fundamentum.errors import InputError
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.plan.made_plan import Plan
from fundamentum.plan.plan_differences import plan_differences
from fundamentum.plan.plan_file import as_document, from_document
from fundamentum.plan.planner import plan
from fundamentum.report import plans
from fundamentum.report.plan_document import load_plan
from fundamentum.survey.observe import survey
from tests.small_root import TODAY, needs, small_root

PROGRAM = Path(sys.executable).with_name("fundamentum")


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Plan:
    surveyed = survey(DirectoryHost(small_root(tmp_path_factory.mktemp("server")), "mizar"))
    return plan(
        [needs("gd", "orrery", settings='[settings.required]\nmemory_limit = ">= 256M"\n')], surveyed, today=TODAY
    )


def written(made: Plan, form: str) -> str:
    out = io.StringIO()
    entry("fundamentum.report.plans", form).write(out, made, None)
    return out.getvalue()


def saved(made: Plan, folder: Path) -> Path:
    (folder / "nightlog.plan.json").write_text(written(made, "json"))
    return folder / "nightlog.plan.json"


@pytest.mark.parametrize("form", plans.names())
def test_every_format_is_made_of_the_file_as_of_the_plan(made: Plan, tmp_path: Path, form: str) -> None:
    assert written(load_plan(saved(made, tmp_path)), form) == written(made, form)


CHANGED = [
    # what is changed in the document                                      what is said
    (lambda d: d["steps"][0].update(commands=["touch /tmp/x"]), "steps differ"),
    (lambda d: d["whole"].update(server="other"), "server differ"),
    (lambda d: d["whole"]["rests_on"].update({"/etc/x": "absent"}), "identity"),
    (lambda d: d["packages"]["install"].append("x"), "packages differ"),
    (lambda d: d.update(format=9), "has format 9"),
    (lambda d: d.pop("whole"), "is no plan; write one with"),
    (lambda d: d["whole"].update(server="a\x1b[31m"), "control characters"),
    (lambda d: d["whole"].update(steps=[{"operation": {"operation": "Nonsense"}, "changes": []}]), "Nonsense"),
    (lambda d: d["whole"].pop("family"), "is no plan that this program can read"),
]


@pytest.mark.parametrize(("change", "said"), CHANGED, ids=[said for _, said in CHANGED])
def test_a_file_that_was_changed_by_hand_is_refused(made: Plan, tmp_path: Path, change: object, said: str) -> None:
    document = json.loads(written(made, "json"))
    change(document)  # type: ignore[operator]
    path = tmp_path / "nightlog.plan.json"
    path.write_text(json.dumps(document))
    with pytest.raises(InputError, match=said) as error:
        load_plan(path)
    assert str(error.value).startswith(str(path))


@given(where=st.integers(0, 10_000), to=st.sampled_from(["", "x\ny", "a;b", None, 7, [], {}, True]))
def test_no_document_brings_it_down(made: Plan, where: int, to: object) -> None:
    """Some value in it, wherever it stands, is another one: read, or refused in a line."""
    document = as_document(made)
    places: list[tuple[object, object]] = []

    def walk(value: object) -> None:
        for key, one in (
            value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
        ):
            places.append((value, key))
            walk(one)

    document = json.loads(json.dumps(document, default=str))
    walk(document)
    holder, key = places[where % len(places)]
    holder[key] = to  # type: ignore[index]
    try:
        from_document(document, "f")
    except InputError as error:
        assert "\n" not in str(error)


def test_two_plans_are_compared(made: Plan, tmp_path: Path) -> None:
    assert plan_differences(made, made) == ()
    surveyed = survey(DirectoryHost(small_root(tmp_path / "server"), "mizar"))
    less = plan([needs("gd", settings='[settings.required]\nmemory_limit = ">= 300M"\n')], surveyed, today=TODAY)
    seen = {(difference.where, difference.what) for difference in plan_differences(made, less)}
    assert ("not resolved", "nightlog extension:orrery") in seen
    assert any(where == "changes" and "memory_limit" in what for where, what in seen)


def test_the_program_writes_reads_and_compares_them(made: Plan, tmp_path: Path) -> None:
    path = saved(made, tmp_path)

    def run(*words: str) -> tuple[int, str, str]:
        done = subprocess.run([PROGRAM, *words], capture_output=True, text=True, timeout=60)
        return done.returncode, done.stdout, done.stderr

    again = tmp_path / "again.plan.json"
    assert run("plan", "--from", str(path), "-o", str(again))[0] == 1
    assert again.read_text() == path.read_text(), "the ending implies the format"
    assert run("compare", str(path), str(again))[:1] == (0,)
    assert run("plan", "--from", str(path), "--format", "script")[1].startswith("#!/bin/sh")
    assert run("plan", "nightlog", "--from", str(path))[::2] == (
        2,
        "fundamentum: --from: reads a plan that is made already: what to plan for, and where, stands in it\n",
    )
    assert run("plan")[0] == 2 and run("plan", "--from", str(tmp_path / "none"))[0] == 2
