"""From a server with nothing on it to an application that answers: two commands, then visitors come."""

import json
import os
import subprocess
import sys
import urllib.error
import urllib.request
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import date
from pathlib import Path

import pytest
from debian_root import STORE, Root, with_libraries

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.needs.file import load
from fundamentum.plan.planner import plan as plan_for
from fundamentum.report.plans.script import as_script
from fundamentum.survey.observe import survey
from tests.sites.cases import RELEASES, files_of

from .laboratory import asked, running
from .playing import play
from .running import end_all
from .twin import sshd

pytestmark = pytest.mark.real
PROGRAM = str(Path(sys.executable).with_name("fundamentum"))
NEEDS = """\
format = 1
[application]
name = "nightlog"
[extensions]
required = ["mbstring", "pdo_mysql"]
[settings.required]
memory_limit = ">= 300M"
[uploads]
largest = "20M"
[directories.required]
var = "writable"
[web]
document_root = "public"
front_controller = "index.php"
modules = ["rewrite"]
deny = ["config", "public/private"]
[database]
required = ["mariadb"]
name = "night_log"
character_set = "utf8mb4"
"""
EVERYWHERE = [(release, server) for release in RELEASES for server in ("nginx", "apache")]
"""All six take ten minutes (FUNDAMENTUM_ALL=1: all)."""
ALIKE = (("bullseye", "apache"), ("trixie", "nginx"))
"""Two that differ from others by the release alone."""
PLAIN = NEEDS[: NEEDS.index("[database]")].replace(', "pdo_mysql"', "")
APPLICATION = """<?php
header('Content-Type: text/plain');
if (isset($_FILES['plate'])) { exit('plate ' . $_FILES['plate']['error'] . ' ' . $_FILES['plate']['size']); }
if ($_SERVER['REQUEST_URI'] === '/observations') {
    $log = new PDO('mysql:host=localhost;dbname=night_log', 'night_log', trim(file_get_contents('/srv/nightlog/config/password')));
    $log->exec('CREATE TABLE IF NOT EXISTS seen (what VARCHAR(40))');
    $log->exec("INSERT INTO seen VALUES ('Lyra')");
    exit('seen ' . $log->query('SELECT COUNT(*) FROM seen')->fetchColumn());
}
echo json_encode([$_SERVER['REQUEST_URI'], ini_get('memory_limit'), PHP_SAPI, basename($_SERVER['SCRIPT_NAME'])]);
"""
FILES = {
    "public/index.php": APPLICATION,
    "public/plain.txt": "plain",
    "public/.hidden": "hidden",
    "public/private/plan.txt": "private",
    "public/private/plan.php": "<?php echo 'private';",
    "config/settings.txt": "private",
}


@contextmanager
def empty_server(release: str, *packages: str) -> Iterator[Root]:
    """A minimal system, with the application's files put where they will be served."""
    with with_libraries(release).layer(STORE / f"new-site-{release}") as root:
        if packages:
            root.install(*packages)
        for name, content in FILES.items():
            root.write(f"/srv/nightlog/{name}", content)
        subprocess.run(["mount", "-t", "proc", "proc", str(root.path / "proc")], check=True)
        try:
            yield root
        finally:
            end_all(root)
            subprocess.run(["umount", "-l", str(root.path / "proc")], check=True)


def plan(root: Root, folder: Path, *options: str, form: str = "script") -> Path:
    (folder / "nightlog.needs.toml").write_text(NEEDS)
    file = folder / f"plan.{form}"
    site = ["--site", "nightlog.example", "--directory", "/srv/nightlog", *options]
    command = [
        PROGRAM,
        "plan",
        "nightlog.needs.toml",
        "--server",
        str(root.path),
        *site,
        "--format",
        form,
        "-o",
        file.name,
    ]
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    return file


def carried_out(root: Root, script: Path, *options: str) -> str:
    root.write("/root/plan.sh", script.read_text())
    command = ["chroot", str(root.path), "sh", "/root/plan.sh", *options]
    environment = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin"}
    with (root.path / "root/said").open("w") as said:  # daemons keep what they are given
        done = subprocess.run(command, stdin=subprocess.DEVNULL, stdout=said, stderr=said, env=environment, timeout=900)
    text = (root.path / "root/said").read_text()
    assert done.returncode == 0, text[-4000:]
    return text


def fetched(path: str, body: bytes = b"", site: str = "nightlog.example") -> tuple[int, str]:
    """The status, and the text of an answer."""
    headers = {"Host": site}
    if body:
        mark = uuid.uuid4().hex
        headers["Content-Type"] = f"multipart/form-data; boundary={mark}"
        part = f'--{mark}\r\nContent-Disposition: form-data; name="plate"; filename="p"\r\n\r\n'.encode()
        body = part + body + f"\r\n--{mark}--\r\n".encode()
    request = urllib.request.Request(f"http://127.0.0.1{path}", body or None, headers)
    try:
        with urllib.request.urlopen(request, timeout=30) as answer:
            return answer.status, answer.read().decode()
    except urllib.error.HTTPError as error:
        return error.code, error.read().decode()
    except OSError as error:
        return 0, str(error)


def served(root: Root, sapi: str = "fpm-fcgi") -> None:
    """The application answers as it needs to."""
    for path in ("/", "/no/such/page"):
        status, text = fetched(path)
        assert status == 200 and json.loads(text) == [path, "300M", sapi, "index.php"], text
    assert fetched("/plain.txt") == (200, "plain")
    for path in ("/private/plan.txt", "/private/plan.php", "/.hidden", "/config/settings.txt"):
        status, text = fetched(path)
        assert "private" not in text and "hidden" not in text, path
    assert fetched("/", b"x" * (19 << 20))[1] == f"plate 0 {19 << 20}"
    secret = root.path / "root/night_log.database-password"
    (root.path / "srv/nightlog/config/password").write_text(secret.read_text())
    seen = [fetched("/observations") for _ in range(2)]
    numbers = [int(text.removeprefix("seen ")) for _, text in seen]
    assert numbers[1] == numbers[0] + 1, seen


@pytest.mark.parametrize(
    ("release", "server"),
    EVERYWHERE if os.environ.get("FUNDAMENTUM_ALL") else [one for one in EVERYWHERE if one not in ALIKE],
)
def test_from_nothing_to_an_answer(release: str, server: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    if (release, server) in (("bullseye", "apache"), ("bookworm", "nginx"), ("trixie", "nginx")):
        monkeypatch.setitem(globals(), "NEEDS", PLAIN)
    if (release, server) == ("trixie", "apache"):  # with another database server, for once
        monkeypatch.setitem(
            globals(), "NEEDS", NEEDS.replace("pdo_mysql", "pdo_pgsql").replace("mariadb", "postgresql")
        )
        there = APPLICATION.replace("mysql:host=localhost", "pgsql:host=127.0.0.1")
        monkeypatch.setitem(FILES, "public/index.php", there)
    with empty_server(release) as root:
        script = plan(root, tmp_path, "--web-server", server)
        text = carried_out(root, script, "--yes")
        assert "so: php" in text and "not so" not in text
        if NEEDS == PLAIN:
            plainly_served()
            assert set(checked(root, tmp_path).values()) == {"met"}
            return
        secret = root.path / "root/night_log.database-password"
        password = secret.read_text().strip()
        assert oct(secret.stat().st_mode)[-3:] == "600" and len(password) == 24
        assert password not in text
        for file in (root.path / "var/backups/fundamentum").rglob("*"):
            assert not file.is_file() or password.encode() not in file.read_bytes(), file
        assert "database-name:night_log" in text
        served(root)
        findings = checked(root, tmp_path)
        unmet = [name for name, verdict in findings.items() if verdict != "met"]
        assert unmet == ["database-name:night_log"] and findings["web:deny:public/private"] == "met"
        again = carried_out(root, script, "--yes")
        assert "to go back" not in again and "there, and its user has it" in again, again
        back = subprocess.run(
            ["chroot", str(root.path), "sh", "/root/plan.sh", "--undo"], capture_output=True, text=True
        )
        assert back.returncode == 0, back.stdout + back.stderr
        assert "there is something in it" in back.stdout  # what was observed is kept
        assert not list(root.path.glob("etc/*/sites-*/nightlog*")) and not list(
            root.path.glob("etc/php/*/fpm/pool.d/night*")
        )


def checked(root: Root, folder: Path) -> dict[str, str]:
    """The verdict of each need, once it is there."""
    command = [PROGRAM, "check", "nightlog.needs.toml", "--server", str(root.path), "--directory", "/srv/nightlog"]
    done = subprocess.run([*command, "--format", "json"], cwd=folder, capture_output=True, text=True, check=False)
    document = json.loads(done.stdout)
    return {finding["need"]: finding["verdict"] for finding in document["applications"][0]["findings"]}


OTHERS = """\
server { listen 80; root /srv/static; }
server { listen 80; server_name a.example; root /srv/a; location ~ \\.php$ { include fastcgi.conf; fastcgi_pass unix:/run/php/php8.2-fpm.sock; } }
server { listen 80; server_name b.example; root /srv/a; location ~ \\.php$ { include fastcgi.conf; fastcgi_pass unix:/run/php/php8.2-fpm.sock; } }
"""


def answers(*questions: tuple[str, str]) -> list[tuple[int, str]]:
    return [fetched(path, site=site) for site, path in questions]


def plainly_served(sapi: str = "fpm-fcgi") -> None:
    """As :func:`served`, without a database."""
    for path in ("/", "/no/such/page"):
        status, text = fetched(path)
        assert status == 200 and json.loads(text) == [path, "300M", sapi, "index.php"], text
    assert "private" not in fetched("/private/plan.txt")[1] + fetched("/private/plan.php")[1]
    assert fetched("/", b"x" * (19 << 20))[1] == f"plate 0 {19 << 20}"


def test_three_other_sites_answer_as_before(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(globals(), "NEEDS", PLAIN)
    with empty_server("bookworm", "nginx-light", "php8.2-fpm") as root:
        (root.path / "etc/nginx/sites-enabled/default").unlink()
        root.write("/etc/nginx/sites-enabled/others", OTHERS)  # the first of which answers for every other name
        root.write("/srv/static/index.html", "static")
        root.write("/srv/a/index.php", "<?php echo PHP_SAPI, ini_get('memory_limit'), $_SERVER['HTTP_HOST'];")
        for service in ("php8.2-fpm", "nginx"):
            root.run("service", service, "start")
        questions = ("x.example", "/"), ("a.example", "/index.php"), ("b.example", "/index.php"), ("b.example", "/none")
        before = answers(*questions)
        assert before[1] == (200, "fpm-fcgi128Ma.example")
        text = carried_out(root, plan(root, tmp_path), "--yes")
        assert "so: setting:memory_limit" in text
        plainly_served()
        assert answers(*questions) == before


@pytest.mark.parametrize(("module", "main"), [(False, True), (True, False)])
def test_an_apache_that_is_there(module: bool, main: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Without PHP, it is handed to a process manager, and nothing else is; with PHP inside it, it stays so.

    ``main``: what it answers is set up for its main server, without any section for a site.
    """
    monkeypatch.setitem(globals(), "NEEDS", PLAIN)
    with empty_server("trixie", "apache2", *(["libapache2-mod-php8.4"] if module else [])) as root:
        root.write("/var/www/html/index.html", "static")
        root.write("/var/www/html/script.php", "<?php echo 1 + 1;")
        if main:
            (root.path / "etc/apache2/sites-enabled/000-default.conf").unlink()
            root.write("/etc/apache2/conf-enabled/main.conf", "DocumentRoot /var/www/html\n")
        root.run("service", "apache2", "start")
        questions = ("x.example", "/"), ("x.example", "/script.php")
        before = answers(*questions)
        assert before == [(200, "static"), (200, "2" if module else "<?php echo 1 + 1;")]
        carried_out(root, plan(root, tmp_path), "--yes")
        plainly_served("apache2handler" if module else "fpm-fcgi")
        assert answers(*questions) == before


@pytest.mark.parametrize(
    ("release", "server"), EVERYWHERE if os.environ.get("FUNDAMENTUM_ALL") else [("bookworm", "nginx")]
)
def test_a_playbook_leads_there_too(release: str, server: str, tmp_path: Path) -> None:
    with empty_server(release, "python3", "python3-apt") as root:
        plan(root, tmp_path, "--web-server", server, form="playbook").rename(tmp_path / "plan.yml")
        with sshd(root, tmp_path) as environment:
            play(tmp_path, environment, "-e", "skip_restart=false")
            served(root)
            assert "changed=0" in play(tmp_path, environment, "-e", "skip_restart=false")
            served(root)
            assert len(list((root.path / "var/backups/fundamentum").glob("*/undo.sh"))) == 1


@pytest.mark.parametrize("server", ["nginx", "apache-fpm"])
def test_a_site_moves_to_the_pool_that_is_made_for_it(server: str, tmp_path: Path) -> None:
    """Two applications that do not go together, each with a site of its own in one pool."""
    port = 8177
    if server == "nginx":
        kind, files = files_of("fpm: nothing", "8.2", port)
        name = next(path for path in files if "sites-enabled" in path)
        files[name] = files[name].replace("; ", ";\n").replace("{ ", "{\n")  # each statement on a line of its own
    else:
        kind, files = files_of("proxy: nothing", "8.2", port)
        handed = (
            '<FilesMatch "\\.php$">\nSetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"\n</FilesMatch>\n'
        )
        name = next(path for path in files if "sites-enabled" in path)
        files[name] = files[name].replace("DocumentRoot /srv/a\n", f"DocumentRoot /srv/a\n{handed}")
        files[name] = files[name].replace("DocumentRoot /srv/b\n", f"DocumentRoot /srv/b\n{handed}")
    with running("bookworm", files, kind, port) as root:
        (tmp_path / "one.needs.toml").write_text(
            'format = 1\n[application]\nname = "nightlog"\n[settings.required]\nmemory_limit = ">= 200M"\n'
        )
        (tmp_path / "two.needs.toml").write_text(
            'format = 1\n[application]\nname = "platevault"\n[settings.required]\nmemory_limit = ">= 2G"\n'
        )
        host = DirectoryHost(root.path, "laboratory", live=True)
        applications = [load(tmp_path / f"{name}.needs.toml") for name in ("one", "two")]
        made = plan_for(applications, survey(host, None), ["a", "b"], today=date.today())
        assert made.complete and not made.others, made.unresolved
        (tmp_path / "plan.sh").write_text(as_script(made))
        said = carried_out(root, tmp_path / "plan.sh", "--yes")
        assert "not so" not in said
        limits = [asked(port, site)["ini"]["memory_limit"] for site in ("a", "b")]
        assert limits == ["200M", "2G"], said
