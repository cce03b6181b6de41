"""Rules of a line or two, each with what it decides."""

import io
from pathlib import Path
from types import SimpleNamespace

import pytest
from msgspec.structs import replace
from rich.console import Console

from fundamentum.changes.package_source import AddSource
from fundamentum.changes.steps import Step
from fundamentum.check.judge import check
from fundamentum.effective.file_access import user_of
from fundamentum.hosts.base import Question
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds.settings.deciding_place import _allows_more
from fundamentum.kinds.web.need import address
from fundamentum.model.findings import Target
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.survey import SiteAnswer
from fundamentum.needs.file import parse
from fundamentum.plan.planner import plan
from fundamentum.report.plans.text import write_plan
from fundamentum.survey import server_reference
from tests import around
from tests.small_root import TODAY, look, needs, small_root


@pytest.mark.parametrize(("sapi", "configured", "user"), [
    ("fpm", None, "www-data"), ("apache2", None, "www-data"), ("cli", None, None), ("fpm", "nina", "nina"),
])  # fmt: skip
def test_as_whom_php_works(tmp_path: Path, sapi: str, configured: str | None, user: str | None) -> None:
    survey = look(small_root(tmp_path))
    runtime = replace(survey.runtimes[0], sapi=sapi, user=configured)
    assert user_of(survey, Target(runtime, "")) == user


BEYOND = """format = 1
[application]
name = "nightlog"
[database]
required = ["mariadb >= 10.5"]
[commands]
required = ["convert"]
[directories.required]
data = "writable"
[host.required]
memory = ">= 2G"
[tasks.required]
"bin/collect.php" = "every 15m"
[services]
required = ["redis"]
[web]
server = "nginx"
"""


def test_what_php_alone_does_not_tell_is_unknown_where_only_its_own_words_are_known(tmp_path: Path) -> None:
    survey = look(small_root(tmp_path))
    page = replace(survey, system=replace(survey.system, family="unknown"), installed=None, offers=None, servers=())
    findings = {str(finding.need): finding for finding in check(parse(BEYOND, "f"), page).findings}
    beyond = {need.partition(":")[0] for need in findings} - {"php"}
    assert beyond == {"database", "command", "directory", "host", "task", "service", "web"}
    assert {need for need, finding in findings.items() if finding.verdict != "unknown"} == {"php", "web:served"}, (
        "sites are known"
    )


@pytest.mark.parametrize(("path", "root", "asked"), [
    ("data", "", "/data/"), ("public/data", "public", "/data/"), ("data", "public", None), ("publicity", "public", None),
])  # fmt: skip
def test_a_directory_as_visitors_ask_for_it(path: str, root: str, asked: str | None) -> None:
    assert address(path, root) == asked


@pytest.mark.parametrize(("before", "after", "more"), [
    ("64M", "128M", True), ("128M", "128M", True), ("128M", "64M", False), ("-1", "64M", False), ("64M", "-1", True),
    ("on", "64M", False), ("64M", "all", False), ("", "1", False), ("0", "1M", False),
])  # fmt: skip
def test_a_larger_number_for_all_who_share_a_file(before: str, after: str, more: bool) -> None:
    assert _allows_more("memory_limit", before, after) is more


@pytest.mark.parametrize(("inside", "compared"), [(True, {"a", "b"}), (False, {"a"})])
def test_what_a_site_said_is_compared_where_it_was_asked_from_there(inside: bool, compared: set[str]) -> None:
    settings = {"a": Setting("1"), "b": Setting("1", set_by="site")}
    runtime = Runtime(branch="8.2", sapi="fpm", version=None, settings=settings)
    said = SiteAnswer((), {"a": "1", "b": "2", "disable_functions": "x"}, inside)
    assert said.comparable(runtime).keys() == compared


def test_permissions_of_a_system_that_has_others_are_not_judged(tmp_path: Path) -> None:
    wanted = around.needs('[directories.required]\n"/srv/x" = "writable"\n')
    survey = around.look(around.around_root(tmp_path), wanted)
    elsewhere = replace(survey, system=replace(survey.system, family="windows"))
    finding = next(finding for finding in check(wanted, elsewhere).findings if finding.need == "directory:/srv/x")
    assert finding.verdict == "unknown" and "is not known" in (finding.remedy or "")


def test_no_program_of_another_root_is_run(tmp_path: Path) -> None:
    question = Question("x", ("echo", "said"))
    assert DirectoryHost(tmp_path, "x", live=True).answer(question) is None
    assert DirectoryHost(Path("/"), "x").answer(question) is None
    assert DirectoryHost(Path("/"), "x", live=True).answer(question) == b"said\n"


def test_a_decision_is_told_with_its_consequence(tmp_path: Path) -> None:
    made = plan([needs("gd")], look(small_root(tmp_path)), today=TODAY)
    source = AddSource("attic main", ())
    place = SimpleNamespace(survey=SimpleNamespace(server="mizar"))
    (operation,) = source.lowered(place)  # type: ignore[arg-type]
    words = {source.key: source.consequence(place)}  # type: ignore[arg-type]
    out = io.StringIO()
    write_plan(Console(file=out, width=200), replace(made, steps=(Step(operation, (source,)),), consequences=words))
    assert "attic main: holds packages of this plan, and is not configured on mizar" in out.getvalue()


@pytest.mark.parametrize(("ask", "with_file"), [("running", False), ("with-file", True)])
def test_sites_are_asked_as_they_were_meant_to_be(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, ask: str, with_file: bool
) -> None:
    asked: list[bool] = []

    def ask_sites(survey: object, root: Path, *, with_file: bool) -> object:
        asked.append(with_file)
        return survey

    parts = {
        "site_answers": SimpleNamespace(ask_sites=ask_sites),
        "pool_answers": SimpleNamespace(ask_pools=lambda s, r: s),
    }
    monkeypatch.setattr(server_reference, "entry", lambda room, name: parts[name])
    server_reference.look(str(small_root(tmp_path)), ask=ask)  # type: ignore[arg-type]
    assert asked == [with_file]
