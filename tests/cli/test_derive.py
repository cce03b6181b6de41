"""``fundamentum derive`` as it is installed, and the applications' directories that check and plan take."""

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

import fundamentum.demo
from tests.cli.program import run
from tests.derive.trees import made
from tests.small_root import small_root

DATA = Path(fundamentum.demo.__file__).parent / "data"


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    (tmp_path / "root").mkdir()
    small_root(tmp_path / "root")
    made(tmp_path / "nightlog", {"index.php": "ctype_digit($x); imagesx($i);\nif (extension_loaded('intl')) { f(); }"})
    return tmp_path


def test_a_summary_a_file_and_the_evidence(folder: Path) -> None:
    summary = run(folder, "derive", "nightlog")
    assert (summary.returncode, summary.stderr) == (0, "")
    assert "used without a check in one file" in summary.stdout
    why = run(folder, "derive", "nightlog", "--explain", "GD").stdout
    assert "extension gd  required" in why
    assert "index.php:1  imagesx()" in why
    assert run(folder, "derive", "nightlog", "-o", "nightlog.needs.toml").stdout == ""
    text = (folder / "nightlog.needs.toml").read_text()
    assert text == run(folder, "derive", "--fresh", "nightlog", "-o", "-").stdout
    assert 'required = ["ctype", "gd"]' in text


def test_check_and_plan_take_the_directory_itself(folder: Path) -> None:
    checked = run(folder, "check", "nightlog", "--server", "root", "--format", "json")
    assert checked.returncode == 1
    states = {load["need"]: load["state"] for load in json.loads(checked.stdout)["applications"][0]["findings"]}
    assert states["extension:gd"] == "installable"
    planned = run(folder, "plan", "nightlog", "--server", "root", "--format", "json")
    assert "php8.2-gd" in json.loads(planned.stdout)["packages"]["install"]


def test_deriving_again_keeps_a_person_s_changes_and_says_what_changed(folder: Path) -> None:
    run(folder, "derive", "nightlog", "-o", "n.needs.toml")
    path = folder / "n.needs.toml"
    path.write_text(path.read_text().replace('"ctype", "gd"', '"ctype"'))
    made(folder / "nightlog", {"more.php": "mb_strlen($x);"})
    again = run(folder, "derive", "nightlog", "-o", "n.needs.toml")
    assert again.stderr.splitlines() == [
        "added extension:mbstring: required",
        "kept as you wrote it: extension:gd: removed, though derived as required",
    ]
    assert run(folder, "check", "n.needs.toml", "--server", "root").returncode in (0, 1)
    path.write_text("format = 1\nbroken")
    failed = run(folder, "derive", "nightlog", "-o", "n.needs.toml")
    assert (failed.returncode, path.read_text()) == (2, "format = 1\nbroken")
    assert "n.needs.toml:2: not TOML" in failed.stderr


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (("nosuch",), "nosuch: is no directory"),
        (("nightlog/index.php",), "index.php: is no directory"),
        (("root",), "root: holds no PHP source and no manifest"),
        (("nightlog", "--explain", "soap"), "nightlog: nothing in it speaks of 'soap'"),
        (("nightlog", "-o", "nosuch/x.needs.toml"), "nosuch/x.needs.toml: cannot be written"),
    ],
)
def test_bad_input_is_one_line_and_exit_two(folder: Path, arguments: tuple[str, ...], said: str) -> None:
    done = run(folder, "derive", *arguments)
    assert done.returncode == 2
    assert said in done.stderr
    assert done.stderr.count("\n") == 1


def test_names_in_a_tree_cannot_steer_the_terminal_or_the_file(folder: Path) -> None:
    odd = "a\x1b[2J\n[loaders]\nrequired = ['x'].php"
    made(
        folder / "odd",
        {odd: "<?php imagesx($i);", "composer.json": json.dumps({"name": "x/\x1b]0;y\x07\nz", "version": "1\n2"})},
    )
    (folder / "odd" / os.fsdecode(b"\xff.php")).write_text("<?php mb_strlen(1);")
    for arguments in (("odd",), ("odd", "--explain", "gd"), ("odd", "-o", "-")):
        done = run(folder, "derive", *arguments)
        assert done.returncode == 0
        assert "\x1b" not in done.stdout + done.stderr
    run(folder, "derive", "odd", "-o", "odd.needs.toml")
    assert "loaders" not in [line.strip("[] ") for line in (folder / "odd.needs.toml").read_text().splitlines()]


def test_nothing_of_the_application_is_executed(folder: Path) -> None:
    made(
        folder / "trap",
        {
            "a.php": f"touch('{folder}/ran'); imagesx(1);",
            "composer.json": '{"scripts": {"post-install-cmd": "touch ran"}}',
        },
    )
    assert run(folder, "derive", "trap").returncode == 0
    assert not (folder / "ran").exists()


def test_a_large_tree_is_read_by_several_processes_with_the_same_answer(folder: Path) -> None:
    code = "class A%d { function f() { /* %s */ return mb_strlen($this->x); } }"
    made(folder / "large", {f"src/{n}.php": code % (n, "x" * 60_000) for n in range(60)} | {"a.php": "imagesx($i);"})
    made(folder / "small", {"src/1.php": code % (1, ""), "a.php": "imagesx($i);"})
    large, small = (run(folder, "derive", name).stdout for name in ("large", "small"))
    assert "used without a check in 60 files" not in small
    assert [line.split()[0] for line in large.splitlines() if "used without" in line] == ["gd", "mbstring"]


def test_the_shipped_applications_are_derived(folder: Path) -> None:
    done = run(folder, "derive", str(DATA / "platevault"))
    for line in (
        "PHP >=7.4, <8.4",
        "pdo_mysql or pdo_pgsql",
        "largest upload 200M",
        "database mariadb or mysql",
        "convert",
        "var/plates",
    ):
        assert line in done.stdout
    assert "Orrery Loader" in run(folder, "derive", str(DATA / "domekeeper")).stdout


def test_an_interrupted_run_ends_quietly(folder: Path) -> None:
    for number in range(40):
        (folder / f"nightlog/more{number}.php").write_text("<?php " + "if ($a) { f($b[1] ?? 2); }\n" * 3000)
    program = Path(sys.executable).with_name("fundamentum")
    for after in (0.4, 0.6, 0.8, 1.0):
        command = [str(program), "derive", "--fresh", "nightlog"]
        running = subprocess.Popen(command, cwd=folder, stderr=subprocess.PIPE, text=True, start_new_session=True)
        time.sleep(after)
        os.killpg(running.pid, signal.SIGINT)  # as a terminal does: each process of the group gets it
        said = running.communicate(timeout=30)[1]
        assert "Traceback" not in said
        assert "Process" not in said
