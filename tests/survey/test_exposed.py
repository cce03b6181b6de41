"""What visitors can reach and should not."""

import os
from pathlib import Path

import pytest

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.survey.probes import exposed_files
from tests.small_root import write

ROOT = "/srv/nightlog"
CASES = [  # document root, file, mode, what it is called
    (ROOT, "install.php", 0o644, "installer"), (ROOT, "setup/x.txt", 0o644, "installer"), (ROOT, "_install/x", 0o644, "installer"),
    (ROOT, "deep/install.php", 0o644, None), (ROOT, "installed.php", 0o644, None),
    (ROOT, ".env", 0o600, "not-for-visitors"), (ROOT, ".env.local", 0o600, "not-for-visitors"), (ROOT, "dump.sql.gz", 0o600, "not-for-visitors"),
    (ROOT, "config.php~", 0o600, "not-for-visitors"), (ROOT, "vendor/a.php", 0o600, "not-for-visitors"), (ROOT, "composer.json", 0o600, "not-for-visitors"),
    (ROOT, "deep/.env", 0o600, None), (ROOT, "environment", 0o600, None),
    (ROOT, "notes.txt", 0o666, "world-writable"), (ROOT, "a/b/notes.txt", 0o666, "world-writable"), (ROOT, "a/b/c/notes.txt", 0o666, None),
    (ROOT, "shared", 0o1777, None), (ROOT, "vendor/x/y", 0o666, None),
    (ROOT + "/public", "../cache.txt", 0o666, "world-writable"), (ROOT + "/public", "../.env", 0o600, None), (ROOT + "/public", "install.php", 0o600, "installer"),
    ("/var/www/html", "../cache.txt", 0o666, None), ("/usr/local/apache2/htdocs", "../x", 0o666, None), ("/usr/local/nginx/html", "../x", 0o666, None), ("/usr/share/nginx/html", "../x", 0o666, None),
]  # fmt: skip


@pytest.mark.parametrize(("root", "name", "mode", "kind"), CASES)
def test_each_sign(tmp_path: Path, root: str, name: str, mode: int, kind: str | None) -> None:
    path = tmp_path / root.lstrip("/") / name
    write(tmp_path, {f"{root}/index.php": "<?php echo 1;", f"{root}/{name}": "x"})
    path.chmod(mode)
    found = [
        exposed.kind
        for exposed in exposed_files.probe(DirectoryHost(tmp_path, "x"), [root])
        if not (exposed.kind == "not-for-visitors" and name == "vendor/x/y")
    ]
    assert found == ([kind] if kind else [])


PAGES = [  # file, content, whether it shows the information page
    ("info.php", "<?php\nphpinfo();\n", True), ("a/info.php", "<?php phpinfo ( );", True), ("a/b/info.php", "<?php phpinfo();", False),
    ("info.txt", "<?php phpinfo();", False), ("info.php", "<?php # phpinfo();\n// phpinfo();\n/* phpinfo(); */", False),
    ("info.php", "<?php my_phpinfo();", False), ("info.php", "<?php phpinfo();" + " " * 5000, False),
]  # fmt: skip


@pytest.mark.parametrize(("name", "content", "is_one"), PAGES)
def test_information_pages(tmp_path: Path, name: str, content: str, is_one: bool) -> None:
    write(tmp_path, {f"{ROOT}/{name}": content})
    assert [exposed.kind for exposed in exposed_files.probe(DirectoryHost(tmp_path, "x"), [ROOT])] == [
        "information-page"
    ] * is_one


def test_a_pipe_is_no_page(tmp_path: Path) -> None:
    write(tmp_path, {f"{ROOT}/index.php": "<?php echo 1;"})
    os.mkfifo(tmp_path / f"{ROOT}/info.php".lstrip("/"))
    assert not list(exposed_files.probe(DirectoryHost(tmp_path, "x"), [ROOT]))


def test_the_first_place_and_how_many_more_and_no_links(tmp_path: Path) -> None:
    write(tmp_path, {f"{ROOT}/a.sql": "", f"{ROOT}/b.sql": "", f"{ROOT}/c.bak": "", "elsewhere/x": ""})
    (tmp_path / "srv/nightlog/d.sql").symlink_to("../../elsewhere/x")
    (tmp_path / "elsewhere/x").chmod(0o666)
    (only,) = exposed_files.probe(DirectoryHost(tmp_path, "x"), [ROOT, ROOT])
    assert (only.kind, only.path, only.root, only.others) == ("not-for-visitors", f"{ROOT}/a.sql", ROOT, 2)
