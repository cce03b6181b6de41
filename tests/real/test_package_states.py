"""Packages as apt will really treat them: held, one update behind, half configured, pinned; the plan says the same."""

import re
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from debian_root import STORE, Root, spare, with_libraries

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.plan.made_plan import Plan
from fundamentum.plan.planner import plan
from fundamentum.report.plans.script import as_script
from fundamentum.survey.observe import survey
from tests.small_root import TODAY, needs

pytestmark = pytest.mark.real
STATUS = "var/lib/dpkg/status"
BEHIND = "8.2.1-1"


@pytest.fixture(scope="module")
def installed() -> Iterator[Root]:
    root = with_libraries("bookworm").copy(STORE / "test-package-states")
    root.install("php8.2-fpm", "php8.2-cli")
    root.run("apt-get", "clean")
    yield root
    subprocess.run(["rm", "-rf", str(root.path)], check=True)


@pytest.fixture
def server(installed: Root, tmp_path: Path) -> Iterator[Root]:
    with installed.layer(spare(tmp_path.name)) as layer:
        yield layer


def made(root: Root) -> Plan:
    surveyed = survey(DirectoryHost(root.path, "server"))
    return plan([needs("gd", "intl", php=">=8.0")], surveyed, "8.2/fpm", today=TODAY)


def of_apt(root: Root, packages: list[str]) -> tuple[set[str], set[str], int]:
    """What the real apt-get would install or upgrade, and take away, and how many bytes it would fetch."""
    said = root.run("apt-get", "-s", "install", "--no-install-recommends", *packages)
    uris = root.run("apt-get", "install", "--print-uris", "-qq", "-y", "--no-install-recommends", *packages)
    sizes = [int(line.split()[2]) for line in uris.splitlines() if line.startswith("'")]
    return set(re.findall(r"^Inst (\S+)", said, re.M)), set(re.findall(r"^Remv (\S+)", said, re.M)), sum(sizes)


def dry(root: Root, planned: Plan) -> tuple[int, str]:
    root.write("/root/plan.sh", as_script(planned))
    done = subprocess.run(
        ["chroot", str(root.path), "sh", "/root/plan.sh"], capture_output=True, text=True, timeout=300
    )
    return done.returncode, done.stdout + done.stderr


def an_update_behind(root: Root, branch: str = "8.2") -> None:
    """The installed packages of PHP as they were an update ago."""
    text = (root.path / STATUS).read_text()
    current = re.search(rf"\nPackage: php{re.escape(branch)}-common\n(?:.+\n)*?Version: (\S+)", text)
    assert current
    (root.path / STATUS).unlink()
    (root.path / STATUS).write_text(text.replace(current[1], f"{branch}.1-1"))


@pytest.mark.parametrize("behind", [False, True])
def test_what_comes_along_is_what_apt_brings(server: Root, behind: bool) -> None:
    if behind:
        an_update_behind(server)
    planned = made(server)
    asked = [change.package for change in planned.changes if hasattr(change, "package")]
    real = of_apt(server, asked)
    assert ({*asked, *planned.along}, set(planned.removes), planned.fetch) == real
    assert bool(planned.upgrades) == behind
    if behind:
        assert {upgrade.package for upgrade in planned.upgrades} >= {"php8.2-fpm", "php8.2-cli", "php8.2-common"}
        assert {upgrade.before for upgrade in planned.upgrades} == {BEHIND}
    assert dry(server, planned)[0] == 0


def test_a_package_on_hold_that_is_not_installed_is_not_promised(server: Root) -> None:
    planned = made(server)
    server.run("apt-mark", "hold", "php8.2-gd")
    held = made(server)
    assert not held.complete and "apt-mark unhold php8.2-gd" in held.unresolved[0].why
    code, said = dry(server, planned)
    assert code == 4 and "php8.2-gd" in said, said


def test_one_that_has_to_be_upgraded_and_is_on_hold(server: Root) -> None:
    an_update_behind(server)
    planned = made(server)
    server.run("apt-mark", "hold", "php8.2-common")
    assert not made(server).complete
    code, said = dry(server, planned)
    assert code == 4 and "held" in said, said


def test_an_interrupted_dpkg_is_named_with_the_command_that_mends_it(server: Root) -> None:
    planned = made(server)
    text = (server.path / STATUS).read_text()
    broken = re.sub(r"(\nPackage: php8\.2-cli\nStatus: install ok )installed", r"\1half-configured", text)
    (server.path / STATUS).unlink()
    (server.path / STATUS).write_text(broken)
    surveyed = survey(DirectoryHost(server.path, "server"))
    assert any("php8.2-cli: dpkg was interrupted" in remark.why for remark in surveyed.remarks)
    code, said = dry(server, planned)
    assert code == 1 and "dpkg --configure -a" in said and "nothing was changed" in said, said


def test_something_else_that_would_be_installed_now_stops_it(server: Root) -> None:
    server.install("libgd3")
    planned = made(server)
    assert dry(server, planned)[0] == 0
    server.run("apt-get", "-y", "remove", "libgd3")
    code, said = dry(server, planned)
    assert code == 4 and "it would now also install libgd3" in said and "plan again" in said, said
