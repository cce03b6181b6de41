"""A kind of system and a web server that only this file knows, through survey, check and plan."""

import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from msgspec.structs import replace

from fundamentum import platforms, webservers
from fundamentum.check.judge import check
from fundamentum.plan.planner import plan
from fundamentum.report.plans.playbook import as_playbook
from fundamentum.report.plans.script import as_script
from fundamentum.survey.recorder import script as recorder
from tests.small_root import TODAY, look, needs, small_root, write

PLATFORM = '''
"""A system that there is not: the layout of another family, packages in a file of its own."""

from fundamentum.hosts.base import text_of
from fundamentum.model.packages import Installed, Offer, Packages, Repository
from fundamentum.model.recorded import Recorded
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
from fundamentum.model.surroundings import Limit
from fundamentum.model.recorded import Recorded
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


@pytest.fixture(autouse=True)
def made_up(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    for room, name, text in ((platforms, "dome", PLATFORM), (webservers, "slit", WEB_SERVER)):
        folder = tmp_path / f"more {name}"
        write(folder, {f"{name}.py": text})
        monkeypatch.setattr(room, "__path__", [*room.__path__, str(folder)])
    write(tmp_path / "more dome", {"dome_script.sh": 'put_packages() { turn-dome -- "$@"; }\n'})
    for of in (platforms.platform, webservers.webserver):
        of.cache_clear()
    yield
    for of in (platforms.platform, webservers.webserver):
        of.cache_clear()
    for module in ("fundamentum.platforms.dome", "fundamentum.webservers.slit"):
        sys.modules.pop(module, None)


def server(folder: Path) -> Path:
    configuration = "site dome.example\nto unix:/run/php/php8.2-fpm.sock\nslit_width 1000000\n"
    extra: dict[str, str | bytes] = {
        "etc/os-release": 'ID=domeos\nPRETTY_NAME="Dome 3"\n',
        "var/lib/dome": "gd intl\n",
        "etc/slit/slit.conf": configuration,
    }
    return small_root(folder / "root", extra=extra)


def test_a_system_and_a_web_server_from_one_file_are_surveyed_checked_and_planned_for(tmp_path: Path) -> None:
    found = look(server(tmp_path))
    assert (found.system.family, [site.server for site in found.sites], len(found.offers or ())) == (
        "dome",
        ["slit"],
        2,
    )
    wanted = needs("gd", settings='[uploads]\nlargest = "20M"\n')
    findings = {str(finding.need): finding for finding in check(wanted, found).findings}
    assert (findings["extension:gd"].state, findings["extension:gd"].package) == ("installable", "for-8.2-gd")
    link = next(link for link in findings["uploads:largest"].chain if link.of == "Slit")
    assert (link.enough, link.remedy) == (False, "write slit_width = 22020096 at /etc/slit/slit.conf:3")
    planned = plan([wanted], found, today=TODAY)
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
