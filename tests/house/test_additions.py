"""A platform, a web server, a kind of need, a change and formats that only this file knows, all the way through."""

import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from msgspec.structs import replace

from fundamentum import changes, kinds, platforms, webservers
from fundamentum.check.judge import check
from fundamentum.cli.main import main
from fundamentum.errors import InputError
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.recording import open_recording
from fundamentum.needs import tables
from fundamentum.plan.planner import plan
from fundamentum.report import checks, plans
from fundamentum.report.plans.json import plan_document
from fundamentum.report.plans.playbook import as_playbook
from fundamentum.report.plans.script import as_script
from fundamentum.survey.observe import survey
from fundamentum.survey.recorder import script as recorder
from fundamentum.survey.survey_file import written
from tests.hosts.test_recording import archive
from tests.small_root import TODAY, look, needs, small_root, write

PLATFORM = '''
"""A system that there is not: the layout of another family, packages in a file of its own."""

from fundamentum.hosts.base import text_of
from fundamentum.model.packages import Installed, Offer, Packages, Repository
from fundamentum.model.recorded_paths import Recorded
from fundamentum.platforms.base import Platform


class Dome(Platform):
    title = "dome family"
    ids = frozenset({"domeos"})
    packaged = carried_out = True
    refresh = "turn-dome --refresh"
    sapi_packages = {"fpm": "fpm-of-{branch}"}
    recorded = Recorded(here=("/var/lib/dome",))
    web_services = {"slit": "slitd"}

    def has_database(self, host):
        return host.stat("/var/lib/dome") is not None

    def install(self, packages, *, again=False):
        return ["turn-dome", *packages]

    def branch_of_offer(self, offer):
        return "8.2"

    def extensions_in(self, offer, branch):
        return {offer.name.removeprefix("for-8.2-")}

    def switch_file(self, branch, extension):
        return f"/etc/php/{branch}/mods-available/{extension}.ini"

    def service_check(self, service):
        return [f"/run/dome/{service}.pid", "test-dome", service]


PLATFORM = Dome()


def read(host, system, asked, also):
    lines = (text_of(host, "/var/lib/dome") or "").split()
    offers = tuple(Offer(f"for-8.2-{name}", "1.0", "the dome") for name in lines)
    return Packages(system, (Installed("dome", "1.0"),), {}, offers, [Repository("the dome")]), []
'''

WEB_SERVER = '''
"""A web server that there is not."""

from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Limit
from fundamentum.model.recorded_paths import Recorded
from fundamentum.webservers.base import Directive, WebServerType
from fundamentum.webservers.handoffs import Files, Handoff, spot


class Slit(WebServerType):
    title = "Slit"
    configuration = ("/etc/slit",)
    process = "slitd: main"
    sizes = {"slit_width": Directive(float)}
    harmless = frozenset({"slit_width", "site"})

    def statement(self, name, value):
        return f"{name} = {value}"


WEB_SERVER = Slit()


def read(host):
    files = Files(host, "Slit")
    text = files.text("/etc/slit/slit.conf")
    if text is None:
        return [], [], []
    root, target, width = text.split()[1::2][:3]
    own = spot(host, Origin("/etc/slit/slit.conf", 3), WEB_SERVER.harmless)
    limit = Limit("slit_width", width, Origin("/etc/slit/slit.conf", 3), own)
    handoff = Handoff((root,), "slit", Origin("/etc/slit/slit.conf", 2), "/srv/dome", None, "socket", target, (limit,))
    return [handoff], files.read, []
'''


KIND = '''
"""Sundials, which an application wants to point somewhere."""

from typing import Annotated

import msgspec

from fundamentum.changes.dial import TurnDial
from fundamentum.kinds.base import Kind
from fundamentum.kinds.table_reader import Table
from fundamentum.model.findings import Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import NotUnderstood, Text, Value


class DialTable(Table):
    """Where a sundial points."""

    required: Annotated[dict[str, Text], msgspec.Meta(description="Garden to direction.")] = {}
    recommended: Annotated[dict[str, Text], msgspec.Meta(description="Garden to direction.")] = {}


class DialNeed(Value, frozen=True):
    garden: str
    direction: str
    level: str

    @property
    def key(self):
        return NeedId(f"dial:{self.garden}")


def dial(garden, text, level):
    if text not in ("north", "south"):
        raise NotUnderstood(f"'{text}' is no direction")
    return DialNeed(garden, text, level)


class Dials(Kind[DialNeed]):
    prefixes = ("dial",)
    order = 85
    tables = {"dials": DialTable}

    def read(self, tables, reader):
        yield from reader.named("dials", tables["dials"], dial)

    def questions(self, need):
        yield "texts", "/etc/dials"
        yield "sockets", "/run/shadow.sock"
        yield "variables", "DIAL_HOME"
        yield "packages", "gnomon"

    def judge(self, need, context):
        answers = context.survey.answers
        line = f"{need.garden} {need.direction}"
        found = answers["text:/etc/dials"]
        met = line in found.lines
        change = TurnDial(need.garden, need.direction)
        return Finding(
            need.key, need.level, "unknown" if found.there is None else "met" if met else "unmet",
            wanted=need.direction, found=", ".join(found.lines) or "no dial",
            demands=() if met else (change,),
        )

    def words(self, need):
        return f"sundial in the {need.names[0]}"


KIND = Dials()
'''

CHANGE = '''
"""Turn a sundial."""

from msgspec.structs import replace

from fundamentum.changes.base import Change
from fundamentum.changes.file_operations import Line, WriteFile


class TurnDial(Change, frozen=True):
    garden: str
    direction: str

    @property
    def key(self):
        return f"dial:{self.garden}"

    @property
    def about(self):
        return self.garden

    @property
    def effect(self):
        return f"-> {self.direction}"

    def words(self, offers):
        return f"turn the dial in the {self.garden} {self.direction}"

    def applied(self, survey, offers):
        answer = survey.answers["text:/etc/dials"]
        answer = replace(answer, there=True, lines=(*answer.lines, f"{self.garden} {self.direction}"))
        return replace(survey, answers={**survey.answers, "text:/etc/dials": answer})

    def services(self, platform):
        yield "shadow", "restart"

    def lowered(self, place):
        yield WriteFile("/etc/dials", "# Dials.", (Line(f"{self.garden} {self.direction}"),))
'''

FORMAT = '''
"""Everything in one line of shouting."""


def write(stream, told, survey, **more):
    judgements = told if isinstance(told, list) else told.after
    verdicts = [f"{finding.need} {finding.verdict}" for one in judgements for finding in one.findings]
    steps = [] if isinstance(told, list) else [step.operation.title for step in told.steps]
    stream.write("; ".join([*verdicts, *steps]).upper() + "\\n")
'''

ROOMS = (
    (platforms, "dome", PLATFORM),
    (webservers, "slit", WEB_SERVER),
    (changes, "dial", CHANGE),
    (kinds, "dials", KIND),
    (plans, "shout", FORMAT),
    (checks, "shout", FORMAT),
)
CACHED = (platforms.platform, webservers.webserver, kinds.kinds, kinds._by_prefix, tables.needs_file)


@pytest.fixture(autouse=True)
def made_up(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    for room, name, text in ROOMS:
        folder = tmp_path / f"more {room.__name__} {name}"
        write(folder, {f"{name}.py": text})
        monkeypatch.setattr(room, "__path__", [*room.__path__, str(folder)])
    write(tmp_path / "more fundamentum.platforms dome", {"dome_script.sh": 'put_packages() { turn-dome -- "$@"; }\n'})
    for of in CACHED:
        of.cache_clear()
    yield
    for of in CACHED:
        of.cache_clear()
    for room, name, _ in ROOMS:
        sys.modules.pop(f"{room.__name__}.{name}", None)


def server(folder: Path) -> Path:
    configuration = "site dome.example\nto unix:/run/php/php8.2-fpm.sock\nslit_width 1000000\n"
    extra: dict[str, str | bytes] = {
        "etc/os-release": 'ID=domeos\nPRETTY_NAME="Dome 3"\n',
        "var/lib/dome": "gd intl\n",
        "etc/slit/slit.conf": configuration,
    }
    return small_root(folder / "root", extra=extra)


def test_a_system_and_a_web_server_from_one_file_are_surveyed_checked_and_planned_for(tmp_path: Path) -> None:
    surveyed = look(server(tmp_path))
    assert (surveyed.system.family, [site.server for site in surveyed.sites], len(surveyed.offers or ())) == (
        "dome",
        ["slit"],
        2,
    )
    wanted = needs("gd", settings='[uploads]\nlargest = "20M"\n')
    findings = {str(finding.need): finding for finding in check(wanted, surveyed).findings}
    assert (findings["extension:gd"].state, findings["extension:gd"].package) == ("installable", "for-8.2-gd")
    link = next(link for link in findings["uploads:largest"].chain if link.of == "Slit")
    assert (link.enough, link.remedy) == (False, "write slit_width = 22020096 at /etc/slit/slit.conf:3")
    planned = plan([wanted], surveyed, today=TODAY)
    assert planned.complete
    assert "+slit_width 22020096" in planned.edits[0].diff
    script = as_script(planned)
    assert all(word in script for word in ("turn-dome", "test-dome", "slitd"))
    assert "apt-get" not in script
    assert "for-8.2-gd" in as_playbook(planned)


def test_what_is_not_known_of_its_packages_is_said_in_its_words(tmp_path: Path) -> None:
    unread = check(needs("imagick"), replace(look(server(tmp_path)), offers=None))
    assert "turn-dome --refresh" in repr(unread)


def test_a_recorder_takes_along_what_they_want() -> None:
    assert all(word in recorder() for word in ("/var/lib/dome", "/etc/slit", "slitd: main"))


DIALS = '[dials.required]\ngarden = "north"\n[dials.recommended]\nroof = "south"\n'


def test_a_kind_a_change_and_formats_from_one_file_each_go_all_the_way(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    root = small_root(tmp_path / "root", extra={"etc/dials": "garden south\nport password=x\nroof south\n"})
    file = tmp_path / "nightlog.needs.toml"
    file.write_text('format = 1\n[application]\nname = "nightlog"\n' + DIALS)
    wanted = needs(settings=DIALS)
    surveyed = survey(DirectoryHost(root, "mizar"), kinds.asked_by([wanted]))
    assert surveyed.answers["text:/etc/dials"].lines == ("garden south", "roof south"), "without what may be a password"
    again = tmp_path / "mizar.survey.json"
    again.write_bytes(written(surveyed))
    judged = {str(finding.need): finding for finding in check(wanted, surveyed).findings}
    assert (judged["dial:garden"].verdict, judged["dial:roof"].verdict) == ("unmet", "met")
    assert judged["dial:garden"].advice == "turn the dial in the garden north, then restart shadow"
    made = plan([wanted], surveyed, today=TODAY)
    assert made.complete and [step.operation.title for step in made.steps] == ["write /etc/dials", "restart shadow"]
    script, playbook = as_script(made), as_playbook(made)
    assert "# Dials." in script and "garden north" in script and "restart_service shadow" in script
    assert "/etc/dials" in playbook
    (row, _) = plan_document(made).changes
    assert (row.kind, row.about, row.why[0].need) == ("dial", "garden", "dial:garden")
    for command, said in (("check", "DIAL:GARDEN UNMET"), ("plan", "WRITE /ETC/DIALS; RESTART SHADOW")):
        main([command, str(file), "--server", str(again), "--format", "shout"])
        assert said in capsys.readouterr().out
    assert main(["plan", str(file), "--server", str(again)]) == 0
    assert "sundial in the garden, required" in capsys.readouterr().out


def test_what_is_wrong_in_its_table_is_named_with_its_line() -> None:
    with pytest.raises(InputError, match=r"f:9:1: garden: 'west' is no direction"):
        needs(settings='[dials.required]\ngarden = "west"\n')


def test_a_recorder_asks_its_questions_too(tmp_path: Path) -> None:
    asked = kinds.asked_by([needs(settings=DIALS)])
    text = recorder(asked)
    assert (
        all(f"'{word}'" in text for word in ("/etc/dials", "/run/shadow.sock")) and "PHP_INI_SCAN_DIR|DIAL_HOME" in text
    )
    answer = b"there\ttext:/etc/dials\nline\ttext:/etc/dials\tgarden north\nabsent\tsocket:/run/shadow.sock\n"
    process = b"seen\t100.00\tphp-fpm: master process\t/usr/sbin/php-fpm8.2\tseen\tDIAL_HOME=/srv/dial\n"
    members = {"format": b"1\n", "answer-asked": answer, "processes": process}
    surveyed = survey(open_recording(archive(members), "x.tar"), asked)
    assert {name: (one.there, one.lines) for name, one in surveyed.answers.items()} == {
        "text:/etc/dials": (True, ("garden north",)),
        "socket:/run/shadow.sock": (False, ()),
        "variable:DIAL_HOME": (True, ("/srv/dial",)),
    }
