"""A script ends by asking the real PHP for what was promised: over HTTP, of the pool, of the command line."""

import subprocess
from pathlib import Path

import pytest
from debian_root import Root, spare

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds import asked_by
from fundamentum.plan.planner import plan
from fundamentum.report.plans.script import as_script
from fundamentum.survey.observe import survey
from tests.around import needs
from tests.sites.cases import RELEASES, files_of
from tests.small_root import TODAY

from .laboratory import made, running

pytestmark = pytest.mark.real
PORT = 8169
WANTED = needs(
    """[extensions]
required = ["mbstring", "json", "opcache"]
[settings.required]
memory_limit = ">= 512M"
[commands]
required = ["sed"]
[directories.required]
"/srv/a/closed" = "writable"
[tasks.required]
"bin/nightly.php" = "every 1h"
"""
)


def script(root: Root, site: str | None = "a") -> str:
    host = DirectoryHost(root.path, "laboratory", live=True)
    return as_script(plan([WANTED], survey(host, asked_by([WANTED])), site, today=TODAY))


def run(root: Root, text: str) -> tuple[int, str]:
    root.write("/root/plan.sh", text)
    command = ["chroot", str(root.path), "sh", "/root/plan.sh", "--yes"]
    done = subprocess.run(
        command, capture_output=True, text=True, timeout=300, env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin"}
    )
    return done.returncode, done.stdout + done.stderr


def names(root: Root) -> list[Path]:
    return sorted([*(root.path / "srv").rglob("*"), *(root.path / "run").glob("fundamentum*")])


@pytest.mark.parametrize("kind", ["fpm", "module", "proxy"])
@pytest.mark.parametrize("release", list(RELEASES))
def test_every_need_is_told_and_nothing_is_left(release: str, kind: str) -> None:
    server, files = files_of(f"{kind}: nothing", RELEASES[release], PORT)
    with running(release, files, server, PORT) as root:
        before = names(root)
        text = script(root)
        code, said = run(root, text)
        assert code == 0, said
        for need in (
            "php",
            "extension:mbstring",
            "extension:opcache",
            "setting:memory_limit",
            "command:sed",
            "directory:/srv/a/closed",
        ):
            assert f"nightlog: so: {need} " in said, said
        assert "not so" not in said and names(root) == before
        again, told = run(root, text)
        assert again == 0 and told.count(": so: ") == said.count(": so: "), told


def test_what_is_not_so_is_told_with_what_is_there() -> None:
    server, files = files_of("fpm: nothing", "8.2", PORT)
    with running("bookworm", files, server, PORT) as root:
        text = script(root)
        wrong = text.replace("extension mbstring=loaded", "extension orrery=loaded").replace(
            "memory_limit=512M", "memory_limit=513M"
        )
        code, said = run(root, wrong)
        assert code == 1
        assert "not so: extension:mbstring (orrery not loaded), promised loaded" in said
        assert "not so: setting:memory_limit (memory_limit 512M), promised 513M" in said
        assert "to go back: sh " in said and "not everything is as it was promised" in said


def test_a_site_that_answers_no_other_script_is_asked_through_its_pool() -> None:
    server, files = files_of("fpm: nothing", "8.2", PORT)
    place = "/etc/nginx/sites-enabled/site"
    files[place] = files[place].replace("location ~ \\.php$", "location = /index.php", 1)
    with running("bookworm", files, server, PORT) as root:
        code, said = run(root, script(root))
        assert code == 0 and "so: setting:memory_limit (memory_limit 512M)" in said, said


def test_where_nothing_runs_nothing_is_claimed(tmp_path: Path) -> None:
    server, files = files_of("fpm: nothing", "8.2", PORT)
    assert server == "nginx"
    with made("bookworm").layer(spare(tmp_path.name)) as root:
        for name, content in files.items():
            root.write(name.format(branch="8.2"), content)
        text = as_script(
            plan([WANTED], survey(DirectoryHost(root.path, "laboratory"), asked_by([WANTED])), "a", today=TODAY)
        )
        code, said = run(root, text)
        assert code == 0 and "nightlog: not asked, since no PHP runs here" in said, said
        assert ": so: setting" not in said
