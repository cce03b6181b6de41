"""Names and values from a hostile server or application never act: not in a script, not on a terminal."""

import io
import re
import shlex
import shutil
import subprocess
from datetime import date
from pathlib import Path

import pytest
import yaml
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from rich.console import Console

from fundamentum.changes.directive import SetDirective
from fundamentum.changes.file_operations import EditFile, Hunk, WriteFile
from fundamentum.changes.packages import Install
from fundamentum.changes.primitives import InstallPackages
from fundamentum.changes.service import Restart
from fundamentum.changes.steps import Step
from fundamentum.changes.task import ScheduleTask
from fundamentum.check.judge import check
from fundamentum.errors import FundamentumError
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds.table_reader import PATH
from fundamentum.model.need_id import NeedId
from fundamentum.model.origin import Origin
from fundamentum.model.packages import Repository
from fundamentum.model.reason import Reason
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import safe
from fundamentum.model.survey import Site, Survey
from fundamentum.plan.made_plan import Plan
from fundamentum.plan.planner import plan
from fundamentum.report.checks.text import write_check
from fundamentum.report.escape import clean, shell_word
from fundamentum.report.plans.playbook import as_playbook
from fundamentum.report.plans.script import as_script
from fundamentum.report.plans.text import write_plan
from fundamentum.report.remarks import write_remarks
from fundamentum.report.survey_text import write_survey
from fundamentum.survey.observe import survey
from tests import around
from tests.examples import examples
from tests.small_root import TODAY, needs, small_root

ANY = st.text(alphabet=st.sampled_from("ab'\"\n\r$(){}`;|&<>\\ \t\x1b\x07\x9b\u202e-#!*?=é"), min_size=1, max_size=30)

HOSTILE = ANY.map(safe)
"""The same as it gets through the types: without control characters."""


@pytest.fixture(scope="module")
def found(tmp_path_factory: pytest.TempPathFactory) -> Survey:
    return survey(DirectoryHost(small_root(tmp_path_factory.mktemp("server")), "mizar"))


@pytest.fixture(scope="module")
def made(found: Survey) -> Plan:
    return plan([needs("gd", settings='[settings.required]\nmemory_limit = ">= 256M"\n')], found, today=TODAY)


@settings(max_examples=examples(40), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(name=HOSTILE, note=HOSTILE, path=HOSTILE, content=HOSTILE)
def test_a_script_does_only_what_it_would_without_them(
    made: Plan, tmp_path_factory: pytest.TempPathFactory, name: str, note: str, path: str, content: str
) -> None:
    folder = tmp_path_factory.mktemp("run")
    reasons = {"install:" + name: (Reason(note, NeedId("extension:" + name), "required", note),)}
    hostile = replace(
        made,
        server=note,
        along=(name,),
        reasons=reasons,
        steps=(
            Step(InstallPackages((name,)), (Install(name),)),
            Step(WriteFile(f"/etc/{path}", content, ()), (SetDirective("memory_limit", note, content, path, "8.2"),)),
            made.steps[-1],
        ),
    )
    script = as_script(hostile)
    # The helpers only write down what they are called with.
    head, own = script.index("set -eu"), script[script.index("plan() {") : script.index("\n}\n")] + "\n}\nplan\n"
    calls = 'record() { printf "%s\\0" "$@" >> calls; }\ninstall_packages() { record install "$@"; }\nwrite_file() { record file "$@"; }\nrestart_service() { record restart "$1"; }\nas_planned() { :; }\npackages_as_planned() { :; }\nvalid_now() { :; }\nfinish() { :; }\nprove() { :; }\nprove_access() { :; }\n'
    (folder / "plan.sh").write_bytes(b"#!/bin/sh\n" + (script[:head] + calls + own).encode())
    done = subprocess.run(["sh", "-eu", "plan.sh"], cwd=folder, capture_output=True, timeout=20, check=False)
    assert (done.returncode, done.stdout, done.stderr) == (0, b"", b"")
    assert {file.name for file in folder.iterdir()} == {"plan.sh", "calls"}
    recorded = (folder / "calls").read_bytes().decode().split("\0")[:-1]
    assert recorded == ["install", name, "file", f"/etc/{path}", content, "restart", "php8.2-fpm"]


@given(value=ANY)
def test_a_text_that_breaks_its_type_gets_into_no_script(made: Plan, value: str) -> None:
    if safe(value) == value:
        assert shlex.split(shell_word(value)) == [value]
        return
    with pytest.raises(ValueError):
        as_script(replace(made, steps=(Step(InstallPackages((value,)), ()),)))
    with pytest.raises(ValueError):
        as_script(replace(made, steps=(Step(WriteFile(f"/etc/{value}", "x", ()), ()),)))


@settings(max_examples=examples(60), deadline=None)
@given(ANY)
def test_nothing_steers_a_terminal(found: Survey, hostile: str) -> None:
    bad = replace(
        found,
        server=hostile,
        remarks=(Remark("PHP", hostile, hostile),),
        runtimes=tuple(replace(r, ini_file=hostile, version=hostile, stale=(hostile,)) for r in found.runtimes),
        sites=(Site(hostile, "nginx", Origin(hostile), (hostile,), hostile, hostile, hostile, hostile),),
        repositories=(Repository(hostile),),
    )
    judged = check(replace(needs("gd"), notes={"extension:gd": hostile}), bad)
    out = io.StringIO()
    console = Console(file=out, force_terminal=False, width=100, markup=False)
    write_check(console, [judged], bad, today=TODAY)
    write_survey(out, bad, date(2026, 11, 24))
    write_plan(console, replace(plan([judged.needs], found, today=TODAY), server=hostile))
    write_remarks(bad, stream=out)
    assert all(c.isprintable() or c == "\n" for c in out.getvalue())


class _Loader(yaml.SafeLoader):
    """Reads a playbook; what is marked as not to be looked into is text."""


_Loader.add_constructor("!unsafe", lambda loader, node: ("unsafe", loader.construct_scalar(node)))  # type: ignore[arg-type]


@settings(max_examples=examples(60), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(name=HOSTILE, note=HOSTILE, path=HOSTILE, content=HOSTILE)
def test_a_playbook_holds_them_as_data(made: Plan, name: str, note: str, path: str, content: str) -> None:
    hostile = replace(
        made,
        server=note,
        along=(name,),
        changes=(Install(name), Restart("php8.2-fpm")),
        reasons={"install:" + name: (Reason(note, NeedId("extension:" + name), "required", note),)},
        steps=(
            Step(InstallPackages((name,)), (Install(name),)),
            Step(WriteFile(f"/etc/{path}", content, ()), ()),
        ),
    )
    text = as_playbook(hostile)
    (play,) = yaml.load(text, Loader=_Loader)

    def held(value: object) -> str:
        assert isinstance(value, tuple), "not marked: it would be taken for a template"
        return str(value[1])

    install = next(task for task in play["tasks"] if "ansible.builtin.apt" in task)
    write = next(task for task in play["tasks"] if "ansible.builtin.copy" in task)
    assert all(held(script) for script in play["vars"].values())
    assert [held(one) for one in install["ansible.builtin.apt"]["name"]] == [name]
    assert held(write["ansible.builtin.copy"]["dest"]) == f"/etc/{path}"
    assert held(write["ansible.builtin.copy"]["content"]) == content + "\n"
    assert "mandatory" in play["hosts"]
    assert set(play) == {"name", "hosts", "become", "gather_facts", "vars", "tasks", "handlers"}


AROUND = """[uploads]
largest = "50M"
[directories.required]
"var/plates" = "writable"
[tasks.required]
"bin/x.php" = "every 15m"
"""


@settings(max_examples=examples(40), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(hostile=HOSTILE)
def test_what_surrounds_php_is_quoted_too(tmp_path_factory: pytest.TempPathFactory, hostile: str) -> None:
    """A hostile site, document root and link: in no place of script, playbook or terminal do they act."""
    wanted = around.needs(AROUND)
    root = tmp_path_factory.mktemp("server")
    seen = around.look(around.around_root(root), wanted)
    bad = replace(
        seen,
        sites=tuple(replace(site, name=hostile, aliases=(hostile,), handler=hostile) for site in seen.sites),
        places=tuple(replace(place, real=f"/srv/{hostile}", owner=None) for place in seen.places),
    )
    made = plan([wanted], bad, today=TODAY)
    assert not made.of(ScheduleTask) or PATH.fullmatch(f"/srv/{hostile}"), "cron would look into it"
    script, playbook = as_script(made), as_playbook(made)
    folder = tmp_path_factory.mktemp("run")
    names = "write_file change_file make_directory give set_mode grant install_packages restart_service reload_service start_service"
    calls = (
        "".join(f'{name}() {{ printf "%s\\0" "$@" >> calls; }}\n' for name in names.split())
        + "as_planned() { :; }\npackages_as_planned() { :; }\nvalid_now() { :; }\nfinish() { :; }\nprove() { :; }\nprove_access() { :; }\nsay() { :; }\n"
    )
    head, own = script.index("set -eu"), script[script.index("plan() {") : script.index("\n}\n")] + "\n}\nplan\n"
    (folder / "plan.sh").write_bytes(b"#!/bin/sh\n" + (script[:head] + calls + own).encode())
    done = subprocess.run(["sh", "-eu", "plan.sh"], cwd=folder, capture_output=True, timeout=20, check=False)
    assert (done.returncode, done.stdout, done.stderr) == (0, b"", b"")
    assert {path.name for path in folder.iterdir()} == {"plan.sh", "calls"}
    yaml.load(playbook, Loader=_Loader)
    out = io.StringIO()
    console = Console(file=out, force_terminal=False, width=100, markup=False)
    write_check(console, [check(wanted, bad)], bad, today=TODAY)
    write_plan(console, made)
    assert all(c.isprintable() or c == "\n" for c in out.getvalue())


@given(st.text(max_size=50))
def test_clean_is_one_printable_line(value: str) -> None:
    assert clean(value).isprintable()


@pytest.mark.skipif(not shutil.which("patch"), reason="patch is not installed")
def test_a_file_is_changed_once_and_kept(made: Plan, tmp_path: Path) -> None:
    ini = tmp_path / "php.ini"
    ini.write_text("; first\r\nmemory_limit = 64M\r\n")
    diff = f"--- {ini}\n+++ {ini}\n@@ -2 +2 @@\n-memory_limit = 64M\r\n+memory_limit = 256M\r\n"
    old, new = "memory_limit = 64M\r", "memory_limit = 256M\r"
    edit = EditFile(str(ini), (Hunk(2, old, ((0, len(old), new),)),))
    assert edit.diff == diff
    bare = replace(made, along=(), changes=(), steps=(Step(edit, ()),), rests_on={}, proofs=())
    script = as_script(bare).replace('"$(id -u)" -eq 0', "1 -eq 1").replace("/var/backups", f"{tmp_path}/kept")
    (tmp_path / "plan.sh").write_bytes(script.encode())

    def run(*options: str) -> str:
        command = ["sh", "plan.sh", *options]
        return subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=True).stdout

    assert "changing" in run()
    assert b"64M" in ini.read_bytes()
    assert "to go back: sh " in run("--yes")
    assert ini.read_bytes() == b"; first\r\nmemory_limit = 256M\r\n"
    assert "as wanted" in run("--yes")
    assert {path.name for path in tmp_path.iterdir()} == {"php.ini", "plan.sh", "kept"}, "nothing is left beside it"
    (copy,) = (tmp_path / "kept").rglob("php.ini")
    assert copy.name == "php.ini" and b"64M" in copy.read_bytes()
    assert (tmp_path / "kept/fundamentum").stat().st_mode & 0o777 == 0o700


def test_a_family_that_is_none_gets_into_no_script(made: Plan) -> None:
    nothing = replace(made, changes=(), steps=(), along=(), family="debian; touch x")
    assert nothing.empty and "touch" not in as_script(nothing)
    with pytest.raises(FundamentumError):
        as_script(replace(made, family="debian; touch x"))


def test_a_script_begins_with_the_plan_and_has_the_functions_it_uses(made: Plan) -> None:
    lines = as_script(made).splitlines()
    own = lines[lines.index("plan() {") : lines.index("}")]
    assert [line.strip()[2:] for line in own if re.match(r"    # \d", line)] == [
        f"{number}. {step.operation.title}" for number, step in enumerate(made.steps, 1)
    ]
    assert len(own) <= 60 and lines[-1] == "plan"
    functions = {match[1] for line in lines if (match := re.match(r"([a-z_]+)\(\) \{", line))}
    code = "\n".join(line for line in lines if not line.lstrip().startswith("#"))
    assert {name for name in functions if len(re.findall(rf"\b{name}\b", code)) < 2} == set()
    assert {"install_packages", "write_file", "restart_service"} <= functions
    assert not functions & {"change_file", "set_label", "switch_part", "start_service", "need_source", "grant"}


def test_the_script_is_clean_for_every_shell(made: Plan, tmp_path: Path) -> None:
    script = tmp_path / "plan.sh"
    script.write_text(as_script(made))
    shells = [shell for shell in ("dash", "bash", "sh", "busybox") if shutil.which(shell)]
    for shell in shells:
        subprocess.run([*(["busybox", "sh"] if shell == "busybox" else [shell]), "-n", str(script)], check=True)
    if shutil.which("shellcheck"):
        subprocess.run(["shellcheck", str(script)], check=True)
    assert shlex.join(["install_packages", "php8.2-gd"]) in script.read_text()
