"""Plans carried out by the real ansible-playbook, over a real sshd."""

import os
import subprocess
from pathlib import Path

import pytest
from debian_root import STORE, Root, with_libraries, with_pool

from .carried_out import RELEASES, confirmed, fundamentum, needs_files, state_of
from .playing import play
from .surrounded import NEEDS, carried_out, surround
from .twin import sshd

pytestmark = pytest.mark.real


def owners(server: Root) -> dict[str, object]:
    """Owners, modes and contents of what stands in the applications' directories and the web server's."""
    found: dict[str, object] = {}
    for path in (path for folder in ("srv", "etc/nginx") for path in (server.path / folder).rglob("*")):
        about = path.lstat()
        what = path.read_bytes() if path.is_file() else b""
        found[str(path)] = (about.st_uid, about.st_gid, about.st_mode, what)
    return found


@pytest.mark.parametrize(
    ("release", "branch"), RELEASES.items() if os.environ.get("FUNDAMENTUM_ALL") else list(RELEASES.items())[1:]
)
def test_a_playbook_does_the_same(release: str, branch: str, tmp_path: Path) -> None:
    server = (with_pool() if release == "bookworm" else with_libraries(release)).copy(STORE / "test-playbook")
    server.install("python3", "python3-apt", "libfcgi-bin")
    needs = needs_files(tmp_path)
    if release == "bookworm":
        server.install("acl")
        surround(server)
        needs["platevault"].write_text(NEEDS)
    where = ["--server", str(server.path), *(() if release == "bookworm" else ("--runtime", f"{branch}/fpm"))]
    applications = [str(path) for path in needs.values()]
    with sshd(server, tmp_path) as environment:
        owned = owners(server)
        code, text = fundamentum("plan", *applications, *where, "--format", "playbook")
        assert code == 0
        (tmp_path / "plan.yml").write_text(text)

        if release == "bookworm":  # trying it changes nothing, on whatever release
            before = state_of(server)
            assert "changed=0" not in play(tmp_path, environment, "--check")
            assert state_of(server) == before
        play(tmp_path, environment)
        assert "changed=0" in play(tmp_path, environment)
        (undo,) = (server.path / "var/backups/fundamentum").glob("*/undo.sh")
        assert "packages-back.sh" in undo.read_text() and (undo.parent / "left").exists()
        if release == "bookworm":
            assert "cp -p" in undo.read_text()
            stray = server.path / "etc/php/8.2/fpm/conf.d/99-stray.ini"
            stray.write_text("memory_limit = 1G\n")
            assert "changed since this was planned" in play(tmp_path, environment, fails=True)
            stray.unlink()
    for application in needs.values():
        assert fundamentum("check", str(application), *where)[0] == 0
        confirmed(server, branch, application)
    if release == "bookworm":
        carried_out(server, needs["platevault"])
        server.run("sh", "/" + str(undo.relative_to(server.path)))
        now = {path: what for path, what in owners(server).items() if path in owned}
        assert now == owned, "directories, and what is in web servers' files, are as they were"
    subprocess.run(["rm", "-rf", str(server.path)], check=True)
