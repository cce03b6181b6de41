"""Texts as applications, words that help, and how much is told: the installed program, run on files."""

import subprocess
from pathlib import Path

import pytest

from tests.cli.program import PROGRAM, run
from tests.small_root import small_root, write

COMPLAINTS = "The PHP extension gd is missing.\nmemory_limit must be at least 256M\nThe dome is closed.\n"


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "root").mkdir()
    small_root(tmp_path / "root")
    (tmp_path / "installer.txt").write_text(COMPLAINTS)
    (tmp_path / "night.needs.toml").write_text(
        'format = 1\n[application]\nname = "nightlog"\n[extensions]\nrequired = ["ctype"]\n'
    )
    return tmp_path


def test_a_text_is_an_application(folder: Path) -> None:
    done = run(folder, "check", "installer.txt", "--server", "root")
    assert done.returncode == 1
    assert "install php8.2-gd" in done.stdout and "for: The PHP extension gd is missing." in done.stdout
    assert "remark: installer.txt:3: not understood: The dome is closed." in done.stderr
    planned = run(folder, "plan", "installer.txt", "--server", "root", "--format", "script")
    assert "php8.2-gd" in planned.stdout


def test_a_text_may_be_pasted(folder: Path) -> None:
    for command in (["check", "-", "--server", "root"], ["derive", "-"]):
        done = subprocess.run(
            [PROGRAM, *command], input=COMPLAINTS, cwd=folder, capture_output=True, text=True, check=False
        )
        assert "gd" in done.stdout and "memory_limit" in done.stdout and done.returncode in (0, 1)


def test_what_the_application_has_not_complained_of_yet_is_judged_too(folder: Path) -> None:
    source = "<?php $xml = new DOMDocument(); mb_strlen('x'); imagecreatetruecolor(1, 1); ctype_alpha('a');"
    write(folder / "root", {"srv/nightlog/index.php": source})
    (folder / "root/etc/nginx/nginx.conf").write_text(
        "events {}\nhttp { server { server_name nightlog; root /srv/nightlog; "
        "location ~ \\.php$ { fastcgi_pass unix:/run/php/php8.2-fpm.sock; } } }\n"
    )
    done = run(folder, "check", "installer.txt", "--server", "root", "--directory", "/srv/nightlog")
    assert "extension dom" in done.stdout and "not complained of yet" in done.stdout
    assert done.stdout.count("\n  extension gd ") == 1


def test_a_text_becomes_a_needs_file(folder: Path) -> None:
    assert run(folder, "derive", "installer.txt", "-o", "new.needs.toml").returncode == 0
    done = run(folder, "needs", "new.needs.toml")
    assert done.returncode == 0 and "for: memory_limit must be at least 256M" in done.stdout
    assert "understood: 2 needs" in done.stdout


def test_how_much_is_told(folder: Path) -> None:
    quiet = run(folder, "check", "night.needs.toml", "installer.txt", "--server", "root", "--quiet")
    assert quiet.stdout.splitlines() == [
        "nightlog on mizar: runs here: all 2 needs are met",
        "installer on mizar: does not run here: 2 required needs are not met",
    ]
    verbose = run(folder, "check", "night.needs.toml", "--server", "root", "--verbose").stdout
    assert "active: loaded  /etc/php/8.2/fpm/conf.d/20-ctype.ini:1" in verbose
    assert "\x1b[" in run(folder, "check", "night.needs.toml", "--server", "root", "--color", "always").stdout
    assert max(map(len, run(folder, "check", "installer.txt", "--server", "root").stdout.splitlines())) < 400


MISSPELT = [  # what is typed, what is meant
    (["chek", "night.needs.toml"], "did you mean 'check'?"),
    (["check", "nite.needs.toml"], "did you mean 'night.needs.toml'?"),
    (["check", "night.needs.toml", "--servr", "root"], "did you mean '--server'?"),
    (["check", "night.needs.toml", "--format", "jsn"], "did you mean 'json'?"),
    (["help", "stats"], "did you mean 'states'?"),
    (["trace", "library:icuu", "--server", "root"], "did you mean 'icu'?"),
]


@pytest.mark.parametrize(("words", "meant"), MISSPELT)
def test_what_may_be_meant_is_said(folder: Path, words: list[str], meant: str) -> None:
    done = run(folder, *words)
    assert done.returncode == 2 and meant in done.stderr and done.stderr.count("\n") == 1


def test_help_has_topics_and_commands(folder: Path) -> None:
    assert "needs-file" in run(folder, "help").stdout
    assert "awaiting-restart" in run(folder, "help", "states").stdout
    assert "--runtime" in run(folder, "help", "check").stdout


def test_a_single_need_and_an_install_line_are_traced(folder: Path) -> None:
    assert "part of PHP itself" in run(folder, "trace", "function:exec", "--server", "root").stdout
    done = run(folder, "trace", "--server", "root", "--", "apt-get", "install", "php5-gd", "php5-json")
    assert "apt-get install --no-install-recommends php8.2-gd" in done.stdout and "superfluous" in done.stdout
