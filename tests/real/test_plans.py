"""Plans carried out for real by their scripts, and confirmed by the real PHP."""

import json
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from debian_root import STORE, Root, two_releases, with_libraries

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.survey.observe import survey
from fundamentum.survey.pool_answers import ask_pools

from .carried_out import RELEASES, confirmed, fundamentum, needs_files, state_of
from .running import start_fpm, stop, wait_for

pytestmark = pytest.mark.real


@pytest.fixture(scope="module", params=list(RELEASES))
def root(request: pytest.FixtureRequest) -> Iterator[tuple[Root, str]]:
    made = with_libraries(request.param).copy(STORE / "test-plans")
    yield made, RELEASES[request.param]
    subprocess.run(["rm", "-rf", str(made.path)], check=True)


def test_scripts_do_what_the_plans_say(root: tuple[Root, str], tmp_path: Path) -> None:
    server, branch = root
    where = ("--server", str(server.path), "--runtime", f"{branch}/fpm")  # nothing serves the web here
    needs = needs_files(tmp_path)
    server.install("libfcgi-bin")
    for name, application in needs.items():
        before = state_of(server)
        code, script = fundamentum("plan", str(application), *where, "--format", "script")
        assert code == 0, name
        server.write("/root/plan.sh", script)
        assert "run this with --yes" in server.run("sh", "/root/plan.sh")
        assert state_of(server) == before, "without --yes nothing changes"
        said = server.run("sh", "/root/plan.sh", "--yes")
        assert "to go back:" in said
        assert fundamentum("check", str(application), *where)[0] == 0
        confirmed(server, branch, application)
        after = state_of(server)
        server.run("sh", "/root/plan.sh", "--yes")
        assert state_of(server) == after
    for application in needs.values():
        assert fundamentum("check", str(application), *where)[0] == 0, "none spoils another"


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
    assert code == 1 and {one["need"] for one in made["unresolved"]} == {"php"}, "no web server hands anything to them"
    assert {one["application"]: one["branch"] for one in made["runtimes"]} == {"platevault": "8.2", "domekeeper": "8.4"}
    assert set(made["conflict"]) == {"platevault accepts PHP <8.3", "domekeeper accepts PHP >=8.3"}
    server.write("/root/plan.sh", fundamentum("plan", *files, "--server", str(server.path), "--format", "script")[1])
    server.run("sh", "/root/plan.sh", "--yes")
    daemons = [start_fpm(server, branch) for branch in ("8.2", "8.4")]
    try:
        for branch in ("8.2", "8.4"):
            wait_for(server.path / f"run/php/php{branch}-fpm.sock")
        asked = {
            runtime.branch: runtime.answer
            for runtime in ask_pools(survey(DirectoryHost(server.path, "x")), server.path).runtimes
            if runtime.answer
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
