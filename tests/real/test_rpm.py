"""RHEL family: what is read from files is what the real rpm and the real dnf say."""

import json
import os
import random
import re
import subprocess
import sys
from pathlib import Path

import pytest
from debian_root import Root

from fundamentum.check.judge import check
from fundamentum.hosts.base import Question
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds.extensions import ExtensionNeed
from fundamentum.model.needs import Needs
from fundamentum.model.surrounding_facts import Asked
from fundamentum.model.survey import Survey
from fundamentum.platforms.redhat import rpm
from fundamentum.platforms.redhat.rpm_version import rpm_order
from fundamentum.survey.observe import survey
from fundamentum.survey.survey_file import written

from .conftest import REAL
from .rpm_server import dnf, home, make_rpm_server, tools

pytestmark = pytest.mark.real
PROGRAM = Path(sys.executable).with_name("fundamentum")


@pytest.fixture(scope="module")
def server(twin: Root, tmp_path_factory: pytest.TempPathFactory) -> Root:
    if missing := tools():
        (pytest.fail if REAL else pytest.skip)(f"{missing} is not installed")
    return make_rpm_server(tmp_path_factory.mktemp("rpm"), twin)


class AskingHost(DirectoryHost):
    """A root whose own rpm may be asked, as on a live machine."""

    def answer(self, question: Question) -> bytes | None:
        command = [question.command[0], "--root", str(self.root), *question.command[1:]]
        environment = {**os.environ, "HOME": str(home(Root(self.root)))}
        return subprocess.run(command, capture_output=True, check=not question.lenient, env=environment).stdout


def look(root: Root) -> Survey:
    return survey(DirectoryHost(root.path, "deneb"))


def state(surveyed: Survey, extension: str, selector: str) -> tuple[str | None, str | None, str | None]:
    needs = Needs("nightlog", needs=(ExtensionNeed((extension,), "required"),))
    finding = check(needs, surveyed, selector).findings[-1]
    return finding.state, finding.package, finding.remedy


def test_the_database_read_from_files_is_what_rpm_says(server: Root) -> None:
    host, asking = DirectoryHost(server.path, "deneb"), AskingHost(server.path, "deneb")
    from_files, from_rpm = rpm.probe(host, ("/usr/lib64/php", "/opt/")), rpm.probe(asking, ("/usr/lib64/php", "/opt/"))
    assert from_files == from_rpm
    assert len(from_files.packages or ()) == 4
    assert from_files.owners["/usr/lib64/php/modules/ctype.so"] == "php-common"


def test_runtimes_of_the_distribution_and_beside_it(server: Root, twin: Root) -> None:
    surveyed = look(server)
    assert surveyed.system.family == "redhat"
    labels = ["8.2/cli", "8.2/fpm/www", "8.2/cli@/opt/observatory/php82"]
    assert [listed.label for listed in surveyed.runtimes] == labels
    for runtime in surveyed.runtimes:
        program = "php-fpm8.2" if runtime.sapi == "fpm" else "php8.2"
        command = ["chroot", str(twin.path), program, "-n", "-m"]
        listed = subprocess.run(command, capture_output=True, text=True, check=True).stdout.splitlines()
        inside = {line for line in listed if line and line[0] != "["}
        assert {extension.shown for extension in runtime.extensions if extension.origin.built_in} == inside
        assert "ctype" in {extension.name for extension in runtime.extensions if extension.fault is None}
    assert "planted" not in written(surveyed).decode()


@pytest.mark.parametrize("stream", ["8.2", "8.4", None], ids=["as it is", "another stream", "no stream"])
def test_what_is_installable_is_what_dnf_resolves(server: Root, stream: str | None) -> None:
    module = server.path / "etc/dnf/modules.d/php.module"
    before = module.read_text()
    enabled = f"stream={stream}\nprofiles=\nstate=enabled\n" if stream else "stream=\nprofiles=\nstate=\n"
    module.write_text(f"[php]\nname=php\n{enabled}")
    try:
        surveyed = look(server)
        seen = 0
        for extension in ("gd", "dom", "mysqli", "pdo_mysql", "star", "json", "needy", "intl"):
            at, package, _ = state(surveyed, extension, "8.2/fpm")
            if package:
                resolved = dnf(server, "install", "--assumeno", package)
                assert "Dependencies resolved" in resolved.stdout, (extension, resolved.stderr)
                chosen = re.search(rf"^ {re.escape(package)} +x86_64 +(\S+)", resolved.stdout, re.M)
                offered = [
                    offer.version for offer in surveyed.offers or () if offer.name == package and not offer.shut_out
                ]
                assert chosen and chosen[1] in offered
                seen += 1
            else:
                assert at != "installable", extension
        assert seen == {"8.2": 5, "8.4": 1, None: 1}[stream]
        if stream == "8.4":
            assert state(surveyed, "gd", "8.2/fpm")[::2] == ("other-branch", "dnf module switch-to php:8.2")
        if stream == "8.2":
            assert state(surveyed, "gd", "8.2/cli@/opt/observatory/php82")[1] == "php82-php-gd"
            assert dnf(server, "install", "--assumeno", "php-needy").returncode == 1
    finally:
        module.write_text(before)


def test_a_plan_switches_the_stream_and_dnf_accepts_it(server: Root, tmp_path: Path) -> None:
    needs = tmp_path / "domekeeper.needs.toml"
    needs.write_text(
        'format = 1\n[application]\nname = "domekeeper"\n[php]\nversion = ">=8.3"\n[extensions]\nrequired = ["exif"]\n'
    )
    command = [str(PROGRAM), "plan", str(needs), "--server", str(server.path), "--format"]
    done = subprocess.run([*command, "json"], capture_output=True, text=True, check=False)
    made = json.loads(done.stdout)
    assert made["steps"][0]["commands"] == ["dnf module switch-to php:8.4"]
    assert made["packages"]["install"] == ["php-exif"]
    rows = {row["branch"]: row for row in made["compared"]}
    assert (rows["8.4"]["chosen_for"], rows["8.2"]["reason"]) == (
        ["domekeeper"],
        "domekeeper accepts only other versions",
    )
    for words in (("module", "switch-to", "php:8.4"), ("install", *made["packages"]["install"])):
        assert dnf(server, *words).returncode == 0
    checked = subprocess.run(
        [str(PROGRAM), "check", str(needs), "--server", str(server.path), "--runtime", "8.4/fpm"], capture_output=True
    )
    assert checked.returncode == 0, checked.stdout
    script = subprocess.run([*command, "script"], capture_output=True, text=True, check=False).stdout
    assert "nothing to do" in script


def test_commands_and_databases_are_found_in_the_metadata(server: Root, tmp_path: Path) -> None:
    needs = tmp_path / "nightlog.needs.toml"
    tables = '[database]\nrequired = ["mariadb >= 10.3"]\n[commands]\nrequired = ["git >= 2.40"]\n'
    needs.write_text(f'format = 1\n[application]\nname = "nightlog"\n{tables}')
    command = [str(PROGRAM), "plan", str(needs), "--server", str(server.path), "--format", "json"]
    made = json.loads(subprocess.run(command, capture_output=True, text=True, check=False).stdout)
    assert made["packages"]["install"] == ["git-core", "mariadb-server", "php-mysqlnd"]
    assert dnf(server, "install", *made["packages"]["install"]).returncode == 0
    look = [str(PROGRAM), "check", str(needs), "--server", str(server.path), "--format", "json"]
    found = json.loads(subprocess.run(look, capture_output=True, text=True, check=False).stdout)
    findings = {one["need"]: one for one in found["applications"][0]["findings"]}
    assert findings["command:git"]["found"] == "/usr/bin/git 2.43.0"
    assert "MariaDB 10.5.22 (package mariadb-server)" in findings["database:mariadb"]["found"]
    survey_of = [DirectoryHost(server.path, "deneb"), AskingHost(server.path, "deneb")]
    asked = Asked(commands=("git",), packages=("mariadb-server", "mariadb"))
    commands = [survey(host, asked).commands for host in survey_of]
    assert commands[0] == commands[1] and commands[0][0].package == "git-core"


def test_versions_are_ordered_as_rpm_orders_them() -> None:
    source = random.Random(3)
    words = ["1", "2", "10", "03", ".", "a", "rc", "~", "^", "_"]
    pairs = [tuple("".join(source.choices(words, k=source.randint(1, 5))) for _ in range(2)) for _ in range(1500)]
    script = "".join(f'print(rpm.vercmp("{one}-1", "{two}-1"))' for one, two in pairs)
    said = subprocess.run(["rpm", "--eval", f"%{{lua:{script}}}"], capture_output=True, text=True, check=True).stdout
    ours = [rpm_order(f"{one}-1", f"{two}-1") for one, two in pairs]
    assert [(n > 0) - (n < 0) for n in ours] == [int(n) for n in re.findall(r"-?1|0", said)]
