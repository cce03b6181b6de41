"""The way back: on disk before each step, complete wherever a script is cut off, and taken with one word."""

import re
import stat
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from debian_root import STORE, Root, spare, with_pool

from .carried_out import fundamentum

pytestmark = pytest.mark.real
SITE = """\
server {
    listen 127.0.0.1:8193;
    server_name nightlog.observatory.example;
    root /srv/nightlog/public;
    location ~ \\.php$ { include snippets/fastcgi-php.conf; fastcgi_pass unix:/run/php/php8.2-fpm.sock; }
}
"""
NEEDS = """format = 1
[application]
name = "nightlog"
[extensions]
required = ["bcmath", "ctype"]
[settings.required]
memory_limit = ">= 200M"
[uploads]
largest = "20M"
[directories.required]
"var/sketches" = "writable"
"var/plates/raw" = "writable"
"""


@pytest.fixture(scope="module")
def web() -> Iterator[Root]:
    """A server with a site, an extension that is switched off, and a directory of root's."""
    root = with_pool().copy(STORE / "test-way-back")
    root.install("patch")
    root.run("phpdismod", "-v", "8.2", "-s", "fpm", "ctype")
    root.write("/srv/nightlog/public/index.php", "<?php echo 'answered';")
    root.write("/etc/nginx/sites-enabled/nightlog", SITE)
    root.run("install", "-d", "/srv/nightlog/var/sketches")
    yield root
    subprocess.run(["rm", "-rf", str(root.path)], check=True)


@pytest.fixture
def server(web: Root, tmp_path: Path) -> Iterator[Root]:
    (tmp_path / "nightlog.needs.toml").write_text(NEEDS)
    with web.layer(spare(tmp_path.name)) as layer:
        code, script = fundamentum(
            "plan", f"{tmp_path}/nightlog.needs.toml", "--server", str(layer.path), "--format", "script"
        )
        assert code == 0
        layer.write("/root/plan.sh", script)
        yield layer


def state(root: Root) -> dict[str, object]:
    """Files, links, owners and modes of the configuration and of the application, and the packages."""
    found: dict[str, object] = {"packages": root.run("dpkg-query", "-W", "-f", "${db:Status-Abbrev}${Package}\n")}
    for path in (path for folder in ("etc", "srv") for path in (root.path / folder).rglob("*")):
        name = "/" + str(path.relative_to(root.path))
        if re.search(r"bcmath|^/etc/(ld.so.cache|mailcap)", name):
            continue  # a package that is taken away again leaves its configuration files
        about = path.lstat()
        what = str(path.readlink()) if path.is_symlink() else path.read_bytes() if path.is_file() else ""
        found[name] = (stat.filemode(about.st_mode), about.st_uid, about.st_gid, what)
    found["packages"] = "".join(line for line in str(found["packages"]).splitlines(True) if "bcmath" not in line)
    return found


def run(root: Root, *words: str) -> str:
    return root.run("sh", "/root/plan.sh", *words)


def test_everything_is_taken_back(server: Root) -> None:
    before = state(server)
    said = run(server, "--yes")
    assert state(server) != before and (server.path / "srv/nightlog/var/plates/raw").is_dir()
    line = said.splitlines()[-1]
    assert re.fullmatch(r"to go back: sh /var/backups/fundamentum/[^/]+/undo\.sh", line)
    taken = run(server, "--undo")
    assert "packages-back.sh" in taken and "failed" not in taken
    assert state(server) == before
    assert "ii  php8.2-bcmath" not in server.run("dpkg", "-l")
    with pytest.raises(RuntimeError, match="nothing to take back"):
        run(server, "--undo")
    assert "to go back" in run(server, "--yes"), "and it can be carried out once more"


def test_a_package_that_was_cut_off_while_it_was_unpacked_is_taken_back(server: Root) -> None:
    before = state(server)
    run(server, "--yes")
    status = (server.path / "var/lib/dpkg/status").read_text()
    torn = re.sub(r"(\nPackage: php8.2-bcmath\nStatus: install )ok installed", r"\1reinstreq half-installed", status)
    assert torn != status
    server.write("/var/lib/dpkg/status", torn)
    assert "failed" not in run(server, "--undo")
    assert state(server) == before
    assert not server.run("dpkg", "--audit")


def steps_of(script: str) -> list[int]:
    """The numbers of the lines behind which a step has been carried out."""
    lines = script.splitlines()
    ends = [number for number, line in enumerate(lines) if re.match(r"    # \d+\. ", line)][1:]
    return [*ends, lines.index("    finish")]


@pytest.mark.parametrize("number", range(5))
def test_cut_off_anywhere_it_goes_back_or_on(server: Root, number: int) -> None:
    before = state(server)
    script = (server.path / "root/plan.sh").read_text()
    lines = script.splitlines()
    lines.insert(steps_of(script)[number], "    kill -KILL $$")
    server.write("/root/cut.sh", "\n".join(lines) + "\n")
    server.run("sh", "/root/cut.sh", "--yes", check=False)
    assert number == 0 or state(server) != before, "the first step is the package, which is left out of the comparison"
    if number % 2:
        run(server, "--undo")
        assert state(server) == before
    run(server, "--yes")
    assert "packages: all installed" in run(server)


@pytest.mark.parametrize("number", range(2))
def test_cut_off_while_a_file_takes_the_place_of_another_it_leaves_nothing(server: Root, number: int) -> None:
    before = state(server)
    script = (server.path / "root/plan.sh").read_text()
    moving = '        mv -f -- "$beside" "$2"\n'
    assert moving in script
    server.write("/root/cut.sh", script.replace(moving, "        kill -KILL $$\n"))
    server.run("sh", "/root/cut.sh", "--yes", check=False)
    left = list((server.path / "etc").rglob(".fundamentum.*"))
    assert left
    if number:
        run(server, "--undo")
        assert state(server) == before
    else:
        run(server, "--yes")
    assert not any(path.exists() for path in left)


def test_a_failure_tells_the_way_back_and_two_do_not_run_at_once(server: Root) -> None:
    before = state(server)
    server.write("/etc/nginx/conf.d/broken.conf", "no such thing;\n")
    with pytest.raises(RuntimeError, match=r"to go back: sh /var/backups/fundamentum/"):
        run(server, "--yes")
    (server.path / "etc/nginx/conf.d/broken.conf").unlink()
    run(server, "--undo")
    assert state(server) == before
    server.write("/run/fundamentum.lock/pid", "1\n")
    for word in ("--yes", "--undo"):
        with pytest.raises(RuntimeError, match="another plan is being carried out here, by process 1"):
            run(server, word)
    assert state(server) == before
    server.write("/run/fundamentum.lock/pid", "999999999\n")
    run(server, "--yes")
    assert not (server.path / "run/fundamentum.lock").exists()


@pytest.mark.parametrize("words", ["/root/plan.sh --yes", "/root/plan.sh --undo", "undo.sh"])
def test_what_a_run_asked_a_site_with_goes_with_the_next_one_if_it_was_killed(server: Root, words: str) -> None:
    said = run(server, "--yes")
    left = "/srv/nightlog/fundamentum-0123456789abcdef01234567.php"
    server.write(left, "<?php\n")
    server.write("/run/fundamentum.lock/pid", "999999999\n")
    server.write("/run/fundamentum.lock/asking", f"{left}\n")
    way_back = said.splitlines()[-1].rpartition(" ")[2]
    server.run("sh", *(words.split() if "plan" in words else [way_back]))
    assert not (server.path / left.lstrip("/")).exists()


def test_an_interrupted_dpkg_is_named_before_anything_changes(server: Root) -> None:
    server.write("/var/lib/dpkg/updates/0001", "")
    before = state(server)
    with pytest.raises(RuntimeError, match="dpkg --configure -a"):
        run(server, "--yes")
    assert state(server) == before
