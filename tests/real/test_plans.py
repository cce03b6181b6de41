"""Plans carried out for real: by their script and by the real ansible-playbook, and confirmed by the real PHP."""

import hashlib
import json
import random
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from debian_root import STORE, Root, base, two_releases

from fundamentum.catalog import canonical
from fundamentum.check.offers import Market
from fundamentum.needs.file import load
from fundamentum.plan.dependencies import Resolver, _provides
from fundamentum.server.asking import ask_pools
from fundamentum.server.hosts import DirectoryHost
from fundamentum.server.survey import survey

from .running import report, start_fpm, stop, wait_for
from .twin import sshd

pytestmark = pytest.mark.real
PROGRAM = Path(sys.executable).with_name("fundamentum")
PLAYBOOK = PROGRAM.with_name("ansible-playbook")
RELEASES = {"bullseye": "7.4", "bookworm": "8.2", "trixie": "8.4"}
APPLICATIONS = {
    "nightlog": (
        ["ctype", "dom", "mbstring", "pdo_mysql | pdo_pgsql", "intl"],
        {"memory_limit": ">= 200M", "max_input_vars": ">= 5000"},
    ),
    "platevault": (
        ["exif", "gd", "zip", "curl"],
        {"upload_max_filesize": ">= 200M", "post_max_size": ">= 220M", "memory_limit": ">= 300M"},
    ),
    "domekeeper": (
        ["pdo_sqlite", "soap", "bcmath"],
        {"date.timezone": "= UTC", "session.auto_start": "off", "max_execution_time": ">= 60"},
    ),
}


@pytest.fixture(scope="module")
def needs(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    folder = tmp_path_factory.mktemp("needs")
    for name, (extensions, settings) in APPLICATIONS.items():
        lines = "".join(f'"{key}" = "{value}"\n' for key, value in settings.items())
        text = f'format = 1\n[application]\nname = "{name}"\n[php]\nversion = ">=7.4"\n[extensions]\nrequired = {json.dumps(extensions)}\n[settings.required]\n{lines}'
        (folder / f"{name}.needs.toml").write_text(text)
    return {name: folder / f"{name}.needs.toml" for name in APPLICATIONS}


@pytest.fixture(scope="module", params=list(RELEASES))
def root(request: pytest.FixtureRequest) -> Iterator[tuple[Root, str]]:
    made = base(request.param).copy(STORE / "test-plans")
    yield made, RELEASES[request.param]
    subprocess.run(["rm", "-rf", str(made.path)], check=True)


def fundamentum(*arguments: str) -> tuple[int, str]:
    done = subprocess.run([PROGRAM, *arguments], capture_output=True, text=True, timeout=300)
    assert "Traceback" not in done.stderr
    return done.returncode, done.stdout


def state_of(root: Root) -> dict[str, str]:
    files = (path for folder in ("etc", "usr/lib/php", "var/lib/dpkg/info") for path in (root.path / folder).rglob("*"))
    return {
        str(path): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(files)
        if path.is_file() and not path.is_symlink()
    }


def confirmed(root: Root, branch: str, application: Path) -> None:
    """The real pool has every extension, and every setting as the plan said."""
    wanted = load(application)
    real = report(root, branch, "fpm", "www")
    loaded = {canonical(name) for name in real["extensions"]}
    for need in wanted.extensions:
        assert any(canonical(name) in loaded for name in need.names), need.key
    for setting in wanted.settings:
        assert setting.condition.holds(setting.name, str(real["ini"][setting.name] or "")), setting.key


def test_scripts_do_what_the_plans_say(root: tuple[Root, str], needs: dict[str, Path]) -> None:
    server, branch = root
    server.install("libfcgi-bin")
    for name, application in needs.items():
        before = state_of(server)
        code, script = fundamentum("plan", str(application), "--server", str(server.path), "--format", "script")
        assert code == 0, name
        server.write("/root/plan.sh", script)
        assert "run this with --yes" in server.run("sh", "/root/plan.sh")
        assert state_of(server) == before, "without --yes nothing changes"
        said = server.run("sh", "/root/plan.sh", "--yes")
        assert "to go back:" in said
        assert fundamentum("check", str(application), "--server", str(server.path))[0] == 0
        confirmed(server, branch, application)
        after = state_of(server)
        server.run("sh", "/root/plan.sh", "--yes")
        assert state_of(server) == after
    for application in needs.values():
        assert fundamentum("check", str(application), "--server", str(server.path))[0] == 0, "none spoils another"


@pytest.mark.parametrize(("release", "branch"), RELEASES.items())
def test_a_playbook_does_the_same(release: str, branch: str, needs: dict[str, Path], tmp_path: Path) -> None:
    server = base(release).copy(STORE / "test-playbook")
    server.install("python3", "python3-apt", "libfcgi-bin")
    applications = [str(one) for one in needs.values()]
    with sshd(server, tmp_path) as environment:
        (tmp_path / "hosts").write_text(
            f"deneb ansible_host=127.0.0.1 ansible_port={environment['SSHD_PORT']} ansible_user=root ansible_ssh_executable={tmp_path}/bin/ssh "
            "ansible_ssh_transfer_method=piped ansible_become=false ansible_python_interpreter=/usr/bin/python3\n"
        )
        code, text = fundamentum("plan", *applications, "--server", str(server.path), "--format", "playbook")
        assert code == 0
        (tmp_path / "plan.yml").write_text(text)

        def play(*options: str) -> str:
            command = [
                str(PLAYBOOK),
                "-i",
                f"{tmp_path}/hosts",
                "-e",
                "skip_restart=true",
                f"{tmp_path}/plan.yml",
                *options,
            ]
            quiet = {
                **environment,
                "ANSIBLE_NOCOWS": "1",
                "ANSIBLE_SSH_ARGS": "-o ControlMaster=no",
                "ANSIBLE_HOME": str(tmp_path / "ansible"),
                "LC_ALL": "C.UTF-8",
            }
            done = subprocess.run(command, capture_output=True, text=True, env=quiet, timeout=900)
            assert done.returncode == 0, done.stdout[-3000:] + done.stderr[-2000:]
            return done.stdout

        before = state_of(server)
        assert "changed=0" not in play("--check")
        assert state_of(server) == before
        play()
        assert "changed=0" in play()
        assert "changed=0" in play("--check")
    for application in needs.values():
        assert fundamentum("check", str(application), "--server", str(server.path))[0] == 0
        confirmed(server, branch, application)
    subprocess.run(["rm", "-rf", str(server.path)], check=True)


def test_two_applications_two_branches_at_the_same_time(tmp_path: Path) -> None:
    server = two_releases("bookworm", "trixie", STORE / "test-two")
    (server.path / "etc/apt/preferences.d/newer").unlink()
    texts = {
        "platevault": ("<8.3", '["imap"]', ">= 300M"),
        "domekeeper": (">=8.3", '["intl"]', ">= 200M"),
    }
    files = []
    for name, (version, extensions, memory) in texts.items():
        files.append(str(tmp_path / f"{name}.needs.toml"))
        Path(files[-1]).write_text(
            f'format = 1\n[application]\nname = "{name}"\n[php]\nversion = "{version}"\n[extensions]\nrequired = {extensions}\n[settings.required]\nmemory_limit = "{memory}"\n'
        )
    code, text = fundamentum("plan", *files, "--server", str(server.path), "--format", "json")
    made = json.loads(text)
    assert code == 0
    assert {one["application"]: one["branch"] for one in made["runtimes"]} == {"platevault": "8.2", "domekeeper": "8.4"}
    assert set(made["conflict"]) == {"platevault accepts PHP <8.3", "domekeeper accepts PHP >=8.3"}
    server.write("/root/plan.sh", fundamentum("plan", *files, "--server", str(server.path), "--format", "script")[1])
    server.run("sh", "/root/plan.sh", "--yes")
    daemons = [start_fpm(server, branch) for branch in ("8.2", "8.4")]
    try:
        for branch in ("8.2", "8.4"):
            wait_for(server.path / f"run/php/php{branch}-fpm.sock")
        asked = {
            one.branch: one.answer
            for one in ask_pools(survey(DirectoryHost(server.path, "x")), server.path).runtimes
            if one.answer
        }
        assert {branch: answer.settings["memory_limit"] for branch, answer in asked.items()} == {
            "8.2": "300M",
            "8.4": "200M",
        }
        assert "imap" in asked["8.2"].extensions
        assert "intl" in asked["8.4"].extensions
    finally:
        for daemon in daemons:
            stop(daemon)
    assert fundamentum("check", files[0], "--server", str(server.path), "--runtime", "8.2/fpm")[0] == 0
    assert fundamentum("check", files[1], "--server", str(server.path), "--runtime", "8.4/fpm")[0] == 0
    subprocess.run(["rm", "-rf", str(server.path)], check=True)


@pytest.mark.parametrize(("release", "branch"), RELEASES.items())
def test_what_comes_along_is_what_apt_would_install(release: str, branch: str) -> None:
    root = base(release)
    found = survey(DirectoryHost(root.path, "x"))
    market = Market(found)
    resolver = Resolver(found, market)
    source = random.Random(5)
    offered = sorted({one.name for one in found.offers or () if one.name.startswith((f"php{branch}-", "php-"))})
    ways = [f"php{branch}-fpm", f"libapache2-mod-php{branch}", f"php{branch}-cgi"]
    sets = [
        [ways[0], f"php{branch}"],
        [ways[0], "php"],
        [ways[1]],
        [ways[0], f"php{branch}-dev"],
        [ways[0], "php-pear"],
    ]
    sets += [[source.choice(ways), *source.sample(offered, source.randint(1, 6))] for _ in range(11)]
    for wanted in sets:
        for recommended in (False, True):
            option = "--install-recommends" if recommended else "--no-install-recommends"
            said = root.run("apt-get", "-s", "install", option, *wanted, check=False).splitlines()
            theirs = {line.split()[1] for line in said if line.startswith("Inst ")}
            along = resolver.along(wanted, recommended=recommended)
            if not theirs:
                assert along.missing, f"apt refuses {wanted}"
                continue
            assert not along.missing, wanted
            ours = {*along.packages, *wanted} - {name for name in resolver.present if name in wanted}
            # The apt of bullseye also takes PHP's metapackages whose names others that come along provide already.
            given = {name for offer in along.offers.values() for name, _ in _provides(offer.provides)}
            provided = {name for name in theirs - ours if re.fullmatch(rf"php|php{branch}|php-[a-z]+", name)}
            provided &= {*given, "php", f"php{branch}"}
            assert ours <= theirs, wanted
            assert theirs - ours <= (provided if release == "bullseye" else set()), wanted
