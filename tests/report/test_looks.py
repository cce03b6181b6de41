"""What a script looks at before it changes anything, in a folder that stands for the server."""

import hashlib
import os
import pwd
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.file_mark import is_mark
from fundamentum.report.shell_library import functions_for
from fundamentum.survey.file_marks import marks


def script(folder: Path, body: list[str], rests_on: dict[str, str]) -> list[str]:
    """A script whose server is the folder."""
    library = "\n".join(functions_for("debian", body)).replace("/var/backups", f"{folder}/kept")
    library = library.replace("/run/fundamentum", f"{folder}/lock").replace('"$(id -u)" -eq 0', "1 -eq 1")
    rows = "\n".join(f"{mark} {path}" for path, mark in rests_on.items())
    data = f"rests_on() {{\n    cat <<'END'\n{rows}\nEND\n}}\nplan=nightlog-0123456789\n"
    (folder / "plan.sh").write_text("set -eu\n" + data + library + "\n" + "\n".join(body) + "\n")
    return ["sh", str(folder / "plan.sh")]


def run(command: list[str], *options: str) -> tuple[int, str]:
    done = subprocess.run([*command, *options], capture_output=True, text=True, timeout=30)
    return done.returncode, done.stdout + done.stderr


@pytest.fixture
def server(tmp_path: Path) -> dict[str, str]:
    (tmp_path / "conf.d").mkdir()
    (tmp_path / "conf.d/10-a.ini").write_text("memory_limit = 1M\n")
    (tmp_path / "secret.conf").write_text("db_password = x\n")
    host = DirectoryHost(Path("/"), "here")
    paths = [f"{tmp_path}/{name}" for name in ("conf.d", "conf.d/10-a.ini", "secret.conf", "none.ini")]
    found = marks(host, paths)
    (tmp_path / "app").mkdir(mode=0o750)
    app = (tmp_path / "app").stat()
    return {path: found[path] for path in paths} | {f"{tmp_path}/app": f"place:{app.st_uid}:{app.st_gid}:750"}


CHANGES: dict[str, tuple[Callable[[Path], object], str]] = {
    "as it was": (lambda folder: None, ""),
    "another value": (lambda folder: (folder / "conf.d/10-a.ini").write_text("memory_limit = 2M\n"), "conf.d/10-a.ini"),
    "one more file": (lambda folder: (folder / "conf.d/20-b.ini").write_text(""), "conf.d"),
    "a leftover": (lambda folder: (folder / "conf.d/10-a.ini.dpkg-dist").write_text(""), ""),
    "a hidden file": (lambda folder: (folder / "conf.d/.x").write_text(""), ""),
    "a file that was not there": (lambda folder: (folder / "none.ini").write_text(""), "none.ini"),
    "one that is gone": (lambda folder: (folder / "conf.d/10-a.ini").unlink(), "conf.d/10-a.ini"),
    "the rights of a directory": (lambda folder: (folder / "app").chmod(0o755), "app"),
    "what is in it": (lambda folder: (folder / "app/x").write_text(""), ""),
    "one with a secret": (lambda folder: (folder / "secret.conf").write_text("db_password = longer\n"), "secret.conf"),
}


@pytest.mark.parametrize("name", CHANGES)
def test_what_has_changed_since_is_told_and_nothing_is_done(name: str, tmp_path: Path, server: dict[str, str]) -> None:
    change, told = CHANGES[name]
    change(tmp_path)
    command = script(tmp_path, ["as_planned", f"write_file {tmp_path}/conf.d/90-new.ini x"], server)
    for options in ([], ["--yes"]):
        code, said = run(command, *options)
        assert code == (4 if told else 0), said
        assert (f"changed since this was planned: {tmp_path}/{told}\n" in said) == bool(told)
    assert (tmp_path / "conf.d/90-new.ini").exists() == (not told)


def test_a_user_who_is_in_other_groups_now_is_told(tmp_path: Path) -> None:
    account = pwd.getpwuid(os.getuid())
    groups = ",".join(map(str, sorted({*os.getgrouplist(account.pw_name, account.pw_gid)})))
    mark = f"account:{account.pw_uid}:{groups}"
    assert is_mark(mark)
    for was, code in ((mark, 0), (f"{mark},4000000000", 4)):
        done, said = run(script(tmp_path, ["as_planned"], {account.pw_name: was}))
        assert (done, f"changed since this was planned: {account.pw_name}\n" in said) == (code, code == 4)


def test_what_the_plan_itself_left_is_as_planned_and_so_is_what_it_took_back(
    tmp_path: Path, server: dict[str, str]
) -> None:
    command = script(tmp_path, ["as_planned", f"write_file {tmp_path}/none.ini x", "finish"], server)
    assert run(command, "--yes")[0] == 0
    assert "as wanted" in run(command, "--yes")[1]
    assert run(command, "--undo")[0] == 0 and not (tmp_path / "none.ini").exists()
    assert run(command, "--yes")[0] == 0
    (tmp_path / "none.ini").write_text("y\n")
    assert run(command, "--yes")[0] == 4, "somebody has changed it since"


def test_a_dry_run_shows_the_differences(tmp_path: Path) -> None:
    (tmp_path / "a.ini").write_text("old\n")
    code, said = run(script(tmp_path, [f"write_file {tmp_path}/a.ini new", "finish"], {}))
    assert code == 0 and "    -old\n    +new\n" in said


def test_marks_tell_content_names_and_nothing_of_secrets(tmp_path: Path, server: dict[str, str]) -> None:
    kinds = {path.rpartition("/")[2]: mark.partition(":")[0] for path, mark in server.items()}
    assert kinds == {
        "conf.d": "names",
        "10-a.ini": "sha256",
        "secret.conf": "time",
        "none.ini": "absent",
        "app": "place",
    }
    assert all(map(is_mark, server.values()))
    assert server[f"{tmp_path}/conf.d/10-a.ini"] == "sha256:" + hashlib.sha256(b"memory_limit = 1M\n").hexdigest()
    assert not any(map(is_mark, ("", "sha256:x", "absent\n", "time:1:2:3", "names:" + "g" * 64)))
