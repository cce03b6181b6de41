"""Windows machines as one meets them: the first thing that is wrong, the plan, and what a check finds after it."""

from pathlib import Path

import pytest

from fundamentum.check.judge import check
from fundamentum.kinds import asked_by
from fundamentum.model.survey import Survey
from fundamentum.plan.planner import plan
from fundamentum.report.plans.script import as_script
from fundamentum.report.powershell_script import as_powershell
from fundamentum.survey.recorder.powershell import script
from fundamentum.survey.server_reference import look
from tests.powershell import mistakes, spelled_twice
from tests.small_root import TODAY, needs

from .built import missing
from .conftest import REAL
from .windows_commands import carry_out, take_back
from .windows_recorder import Recorder
from .windows_trees import CONFIG_FILE, TREES

pytestmark = pytest.mark.real
WANTED = needs(
    "gd",
    "intl",
    "ctype",
    settings='[settings.required]\nmemory_limit = ">= 512M"\n[uploads]\nlargest = "40M"\n',
)
FIRST = {  # the site that is judged; the first complaint of the check; its remedy; what the plan leaves
    "two_branches": ("nightlog", "/PHP/ext/php_intl.dll is there, but not loaded", "add extension=intl to /PHP/php.ini", ""),
    "unregistered": (None, "IIS has no CGI feature", "dism.exe /online /enable-feature /featurename:IIS-CGI", ""),
    "no_feature": (None, "IIS has no CGI feature", "dism.exe /online /enable-feature /featurename:IIS-CGI", ""),
    "thread_safe": (
        None,
        "php_gd.dll is built for a non-thread-safe PHP, and this one is thread-safe",
        "take ext\\php_gd.dll from PHP's own archive, php-8.3.12-Win32-vs16-x64.zip",
        "php_gd.dll is built for a non-thread-safe PHP",
    ),
    "small_handler": (
        None,
        "the pool plates runs in 64 bits, and the handler counts in the other kind only",
        "/apppool.name:plates /enable32BitAppOnWin64:true",
        "",
    ),
    "bundle": (
        None,
        "/bundle/php/ext/php_intl.dll is there, but not loaded by apache2",
        "add extension=intl to /bundle/apache/bin/php.ini",
        "",
    ),
    "few_requests": (
        None,
        "PHP ends after 500 requests, and IIS gives it 10000",
        ".environmentVariables.[name='PHP_FCGI_MAX_REQUESTS',value='10000']",
        "",
    ),
    "sample_only": (
        None,
        "/Programs/php83/ext/php_gd.dll is there, but not loaded",
        "add extension=gd to /Programs/php83/php.ini",
        "",
    ),
}  # fmt: skip


@pytest.fixture(scope="module", autouse=True)
def compilers() -> None:
    if missing():
        (pytest.fail if REAL else pytest.skip)(f"{missing()} is not installed")


def seen(root: Path) -> Survey:
    return look(str(root))


@pytest.mark.parametrize("name", TREES)
def test_a_machine_before_and_after(name: str, tmp_path: Path) -> None:
    root = TREES[name](tmp_path / "drive")
    site, complaint, remedy, left = FIRST[name]
    before = check(WANTED, seen(root), site)
    worst = next(finding for finding in before.findings if finding.verdict == "unmet")
    assert complaint in (worst.found or "")
    assert remedy in (worst.remedy or "")
    configured = (root / CONFIG_FILE).read_bytes() if (root / CONFIG_FILE).exists() else b""
    made = plan([WANTED], seen(root), site, today=TODAY)
    assert [left in unresolved.why for unresolved in made.unresolved] == ([True] if left else [])
    assert as_script(made) == as_powershell(made)
    assert (mistakes(as_powershell(made)), spelled_twice(as_powershell(made))) == ([], [])
    carry_out(made, root)
    after = check(WANTED, seen(root), site)
    still = [finding for finding in after.findings if finding.verdict != "met"]
    assert [left in (finding.found or "") for finding in still] == ([True] if left else [])
    assert left or plan([WANTED], seen(root), site, today=TODAY).empty
    take_back(made, root)
    now = check(WANTED, seen(root), site)
    if configured:  # as it was, but for settings that are written out now
        assert next(finding for finding in now.findings if finding.need == "php").found == before.findings[0].found


def test_every_site_of_two_branches_has_its_own_answer(tmp_path: Path) -> None:
    survey = seen(TREES["two_branches"](tmp_path / "drive"))
    served = {site.name: (site.runtime, [barrier.why for barrier in site.barriers]) for site in survey.sites}
    assert served == {
        "nightlog": ("8.3/cgi@/PHP", []),
        "plates": ("8.4/cgi@/Tools/php84", []),
        "dome": ("8.3/cgi@/PHP", ["the handler PHP, which would run PHP, is taken off for dome"]),
    }
    assert {site.service_pool for site in survey.sites} == {"DefaultAppPool"}
    assert any("plates.local leads to this machine" in remark.why for remark in survey.remarks)


ASKED = asked_by([needs(settings='[directories.required]\n"var" = "writable"\n')])
OTHERWISE = {"server", "taken", "reader", "marks", "places", "read"}  # who looked, when, and from where


@pytest.mark.parametrize("name", TREES)
def test_a_recording_tells_what_the_tree_does(name: str, tmp_path: Path) -> None:
    root = TREES[name](tmp_path / "drive")
    for site in (root / "inetpub").glob("*"):
        (site / "var").mkdir()
    archive = tmp_path / "deneb.recording.tar.gz"
    archive.write_bytes(Recorder(root, ASKED).run())
    recorded, read = look(str(archive), asked=ASKED), look(str(root), asked=ASKED)
    for field in (field for field in Survey.__struct_fields__ if field not in OTHERWISE):
        assert getattr(recorded, field) == getattr(read, field), field
    assert (recorded.server, recorded.taken, recorded.reader) == ("DENEB", 1764000000, "root")
    assert len(archive.read_bytes()) < sum(path.stat().st_size for path in root.rglob("*") if path.is_file())


def test_rights_are_known_from_a_recording_alone(tmp_path: Path) -> None:
    root = TREES["two_branches"](tmp_path / "drive")
    (root / "inetpub/nightlog/var").mkdir()
    wanted = needs(settings='[directories.required]\n"var" = "writable"\n')
    archive = tmp_path / "deneb.recording.tar.gz"
    archive.write_bytes(Recorder(root, ASKED).run())
    told = {}
    for reference in (archive, root):
        judged = check(wanted, look(str(reference), asked=ASKED), "nightlog")
        told[reference] = next(finding for finding in judged.findings if finding.need == "directory:var")
    assert (told[archive].verdict, told[archive].found) == ("met", "IIS AppPool\\DefaultAppPool may write")
    assert told[root].verdict == "unknown"
    assert told[root].remedy == (
        "icacls C:\\inetpub\\nightlog\\var on the server tells whether IIS AppPool\\DefaultAppPool may write there; if "
        'not: icacls C:\\inetpub\\nightlog\\var /grant "IIS AppPool\\DefaultAppPool:(OI)(CI)M"'
    )


def test_the_recorder_is_powershell() -> None:
    assert (mistakes(script(ASKED)), spelled_twice(script(ASKED))) == ([], [])
    assert spelled_twice("param($Root)\nforeach ($root in 1, 2) { }\n") == ["root"]
    assert mistakes(script(ASKED).replace("function Add-RecorderStat(", "function Add-RecorderStat(((")) != []
