"""Plans do no harm: pages of real web servers before and after, and what else is on the server."""

import os
import subprocess
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from debian_root import STORE, Root, base, spare, with_pool

from .carried_out import fundamentum
from .playing import PLAYBOOK, play
from .running import start_fpm, stop, stop_web_servers, wait_for
from .twin import sshd

pytestmark = pytest.mark.real
NGINX, APACHE = 8191, 8192
PAGE = "<?php $password = 'geheim'; echo 'answered', 1 + 1;"
SITE = """\
server {
    listen 127.0.0.1:8191 default_server;
    server_name nightlog.observatory.example;
    root /srv/nightlog/public;
    client_max_body_size 1m;
    location ~ \\.php$ { include snippets/fastcgi-php.conf; fastcgi_pass unix:/run/php/php8.2-fpm.sock; }
}
"""
NEEDS = 'format = 1\n[application]\nname = "nightlog"\n'
UPLOADS = NEEDS + '[uploads]\nlargest = "20M"\n'


@pytest.fixture(scope="module")
def web() -> Iterator[Root]:
    """A server with both web servers, and no PHP that either of them runs."""
    root = with_pool().copy(STORE / "test-harm")
    root.install("python3", "python3-apt", "patch", "cron")
    root.write("/srv/nightlog/public/index.php", PAGE)
    root.write("/etc/nginx/sites-available/default", "")
    yield root
    subprocess.run(["rm", "-rf", str(root.path)], check=True)


@pytest.fixture
def server(web: Root, tmp_path: Path) -> Iterator[Root]:
    with web.layer(spare(tmp_path.name)) as layer:
        yield layer


def fetched(port: int) -> str:
    """The page, or the status."""
    for _ in range(50):
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{port}/index.php", timeout=20) as answer:
                return str(answer.read().decode())
        except urllib.error.HTTPError as error:
            return str(error.code)
        except OSError:
            time.sleep(0.1)
    return "nothing answers"


@contextmanager
def running(root: Root, *, nginx: bool = False, apache: bool = False, fpm: bool = False) -> Iterator[None]:
    """Daemons with the root's own configuration."""
    daemons = [start_fpm(root, "8.2")] if fpm else []
    try:
        if fpm:
            wait_for(root.path / "run/php/php8.2-fpm.sock")
        if nginx:
            root.run("nginx")
        if apache:
            root.run("apache2ctl", "start")
        yield
    finally:
        stop_web_servers(root)
        for daemon in daemons:
            stop(daemon)


def planned(root: Root, folder: Path, needs: str, *words: str, form: str = "script") -> tuple[int, str]:
    (folder / "nightlog.needs.toml").write_text(needs)
    return fundamentum("plan", f"{folder}/nightlog.needs.toml", "--server", str(root.path), "--format", form, *words)


def carried_out(root: Root, script: str) -> str:
    root.write("/root/plan.sh", script)
    return root.run("sh", "/root/plan.sh", "--yes")


def by_script(root: Root, folder: Path, needs: str, *words: str) -> None:
    code, script = planned(root, folder, needs, *words)
    assert code == 0
    carried_out(root, script)


def by_playbook(root: Root, folder: Path, needs: str, *words: str) -> None:
    code, text = planned(root, folder, needs, *words, form="playbook")
    assert code == 0
    (folder / "plan.yml").write_text(text)
    with sshd(root, folder) as environment:
        play(folder, environment)
        assert "changed=0" in play(folder, environment)


WAYS = [by_script, by_playbook]


@pytest.mark.parametrize("way", WAYS)
def test_a_block_that_has_moved_is_left_alone_and_so_is_another_that_looks_the_same(
    server: Root, tmp_path: Path, way: Callable[..., None]
) -> None:
    site = server.path / "etc/nginx/sites-enabled/nightlog"
    site.write_text(SITE)
    _, script = planned(server, tmp_path, UPLOADS, form="script" if way is by_script else "playbook")
    other = SITE.replace("nightlog.observatory.example", "other.observatory.example").replace(" default_server", "")
    site.write_text(f"{other}\n{SITE}")
    before = site.read_text()
    with pytest.raises((RuntimeError, AssertionError)):
        if way is by_script:
            carried_out(server, script)
        else:
            (tmp_path / "plan.yml").write_text(script)
            with sshd(server, tmp_path) as environment:
                play(tmp_path, environment)
    assert site.read_text() == before


@pytest.mark.parametrize("way", WAYS)
def test_a_site_that_is_a_plain_file_among_those_that_are_read(
    server: Root, tmp_path: Path, way: Callable[..., None]
) -> None:
    sites = server.path / "etc/nginx/sites-enabled"
    (sites / "default").unlink()
    (sites / "nightlog").write_text(SITE)
    with running(server, nginx=True, fpm=True):
        assert fetched(NGINX) == "answered2"
    way(server, tmp_path, UPLOADS)
    assert [path.name for path in sites.iterdir()] == ["nightlog"], "nothing is left where nginx would read it"
    kept = server.path / "var/backups/fundamentum"
    assert kept.stat().st_mode & 0o777 == 0o700
    assert any(path.read_text() == SITE for path in kept.rglob("*") if path.is_file())
    assert "client_max_body_size 21m;" in (sites / "nightlog").read_text()
    server.run("nginx", "-t")
    with running(server, nginx=True, fpm=True):
        assert fetched(NGINX) == "answered2"


def test_a_line_that_has_changed_since_is_left_alone(server: Root, tmp_path: Path) -> None:
    site = server.path / "etc/nginx/sites-enabled/nightlog"
    site.write_text(SITE)
    _, script = planned(server, tmp_path, UPLOADS)
    site.write_text(SITE.replace("1m", "64m"))
    with pytest.raises(RuntimeError, match="changed since this was planned"):
        carried_out(server, script)
    assert "64m" in site.read_text()


def apache(root: Root, *packages: str) -> None:
    root.install("apache2", *packages)
    root.write("/etc/apache2/ports.conf", f"Listen 127.0.0.1:{APACHE}\nServerName vega\n")
    root.write(
        "/etc/apache2/sites-available/000-default.conf",
        f"<VirtualHost *:{APACHE}>\nDocumentRoot /srv/nightlog/public\n</VirtualHost>\n",
    )
    root.write("/etc/apache2/conf-enabled/srv.conf", "<Directory /srv>\nRequire all granted\n</Directory>\n")


@pytest.mark.parametrize("way", WAYS)
def test_apache_with_its_module_off_hands_out_no_source_afterwards(
    server: Root, tmp_path: Path, way: Callable[..., None]
) -> None:
    server.run("apt-get", "purge", "-y", "-q", "php8.2-fpm", "nginx-light", "nginx-common")
    apache(server, "libapache2-mod-php8.2")
    server.run("a2dismod", "-q", "php8.2", "mpm_prefork")
    server.run("a2enmod", "-q", "mpm_event")
    with running(server, apache=True):
        assert "geheim" in fetched(APACHE)
    (tmp_path / "x.needs.toml").write_text(NEEDS)
    assert (
        "hands out the source"
        in fundamentum("check", f"{tmp_path}/x.needs.toml", "--server", str(server.path), "--runtime", "8.2/apache2")[1]
    )
    way(server, tmp_path, NEEDS)
    with running(server, apache=True):
        assert fetched(APACHE) == "answered2"
    assert planned(server, tmp_path, NEEDS)[1].count("nothing to do") == 1


def test_a_module_without_apache_itself(server: Root, tmp_path: Path) -> None:
    server.run("apt-get", "purge", "-y", "-q", "php8.2-fpm", "nginx-light", "nginx-common")
    server.install("libapache2-mod-php8.2")
    by_script(server, tmp_path, NEEDS, "--runtime", "8.2/apache2")
    server.write("/etc/apache2/ports.conf", f"Listen 127.0.0.1:{APACHE}\nServerName vega\n")
    server.write(
        "/etc/apache2/sites-available/000-default.conf",
        f"<VirtualHost *:{APACHE}>\nDocumentRoot /srv/nightlog/public\n</VirtualHost>\n",
    )
    server.write("/etc/apache2/conf-enabled/srv.conf", "<Directory /srv>\nRequire all granted\n</Directory>\n")
    with running(server, apache=True):
        assert fetched(APACHE) == "answered2"


@pytest.mark.parametrize("installed", [True, False])
def test_apache_that_hands_php_to_nothing_is_given_the_pool(server: Root, tmp_path: Path, installed: bool) -> None:
    server.run(
        "apt-get",
        "purge",
        "-y",
        "-q",
        "nginx-light",
        "nginx-common",
        *(() if installed else ("php8.2-fpm", "php8.2-common")),
    )
    apache(server)
    with running(server, apache=True, fpm=installed):
        assert "geheim" in fetched(APACHE)
    by_script(server, tmp_path, NEEDS)
    with running(server, apache=True, fpm=True):
        assert fetched(APACHE) == "answered2"


def test_a_source_is_there_only_if_what_is_wanted_of_it_is(server: Root, tmp_path: Path) -> None:
    """A release's next one also has base-files, which every server has: that is not what the plan needs of it."""
    newer = base("trixie").path / "var/lib/apt/lists"
    (tmp_path / "mirror").mkdir()
    for index in newer.glob("*_main_binary-amd64_Packages*"):
        (tmp_path / "mirror" / index.name).symlink_to(index)
    for release in newer.glob("*_InRelease"):
        (tmp_path / "mirror" / release.name).symlink_to(release)
    wanted = NEEDS + '[php]\nversion = ">=8.4"\n'
    code, script = planned(server, tmp_path, wanted, "--index", str(tmp_path / "mirror"), "--runtime", "8.4")
    (asked,) = [line for line in script.splitlines() if line.strip().startswith("need_source ")]
    assert "php8.4-fpm" in asked and "base-files" not in asked
    with pytest.raises(RuntimeError, match="configure it, refresh the package indexes"):
        carried_out(server, script)
    assert "php8.4-fpm" not in server.run("dpkg-query", "-W")
    sources = (server.path / "etc/apt/sources.list").read_text()
    server.write("/etc/apt/sources.list.d/newer.list", sources.replace("bookworm", "trixie"))
    server.run("apt-get", "update")
    server.write("/root/plan.sh", script)
    assert ": configured" in server.run("sh", "/root/plan.sh")
    assert code == 0


def test_nothing_is_done_on_a_php_that_is_refused(server: Root, tmp_path: Path) -> None:
    wanted = (
        NEEDS
        + '[php]\nversion = ">=8.4"\n[extensions]\nrequired = ["gd"]\n[settings.required]\nmemory_limit = ">= 512M"\n'
    )
    code, script = planned(server, tmp_path, wanted)
    assert code == 1
    before = server.run("dpkg-query", "-W")
    assert "nothing to do" in carried_out(server, script)
    assert server.run("dpkg-query", "-W") == before
    assert not list((server.path / "etc/php/8.2/fpm/conf.d").glob("*nightlog*"))


DIRECTORY = NEEDS + '[directories.required]\n"var/plates" = "writable"\n'


def application(root: Root) -> Path:
    (root.path / "etc/nginx/sites-enabled/default").unlink()
    root.write("/etc/nginx/sites-enabled/nightlog", SITE)
    root.run("chown", "-R", "www-data", "/srv/nightlog")
    root.run("install", "-d", "-o", "www-data", "/srv/nightlog/var")
    return root.path / "srv/nightlog/var/plates"


def owners(root: Root) -> str:
    return root.run("stat", "-c", "%U:%G %a", "/etc/cron.d", "/etc", "/etc/cron.daily")


@pytest.mark.parametrize("way", ["itself", "on the way"])
def test_a_link_out_of_the_application_is_reported_and_never_followed(server: Root, tmp_path: Path, way: str) -> None:
    plates = application(server)
    before = owners(server)
    if way == "itself":
        plates.symlink_to("/etc/cron.d")
    else:
        plates.parent.rmdir()
        plates.parent.symlink_to("/etc")
        (server.path / "etc/plates").symlink_to("/etc/cron.d")
    code, text = planned(server, tmp_path, DIRECTORY, form="text")
    assert code == 1 and "never changes" in text and "chown" not in text
    _, script = planned(server, tmp_path, DIRECTORY)
    carried_out(server, script)
    assert owners(server) == before


@pytest.mark.parametrize("state", ["not there", "somebody else's"])
@pytest.mark.parametrize("link", ["itself", "on the way"])
def test_a_link_that_comes_after_the_survey_stops_the_script(
    server: Root, tmp_path: Path, state: str, link: str
) -> None:
    plates = application(server)
    if state == "somebody else's":
        server.run("install", "-d", "-m", "700", "/srv/nightlog/var/plates")
    _, script = planned(server, tmp_path, DIRECTORY)
    _, playbook = planned(server, tmp_path, DIRECTORY, form="playbook")
    before = owners(server)
    if link == "itself":
        server.run("rm", "-rf", "/srv/nightlog/var/plates")
        plates.symlink_to("/etc/cron.d")
    else:
        server.run("rm", "-rf", "/srv/nightlog/var")
        plates.parent.symlink_to("/etc")
        (server.path / "etc/plates").symlink_to("/etc/cron.d")
    with pytest.raises(RuntimeError, match="plan again"):
        carried_out(server, script)
    if link == "itself":
        (tmp_path / "plan.yml").write_text(playbook)
        with sshd(server, tmp_path) as environment, pytest.raises(AssertionError, match="plan again"):
            play(tmp_path, environment)
    assert owners(server) == before


def test_a_playbook_without_a_target_stops_with_a_sentence(server: Root, tmp_path: Path) -> None:
    _, text = planned(server, tmp_path, NEEDS + '[extensions]\nrequired = ["gd"]\n', form="playbook")
    (tmp_path / "plan.yml").write_text(text)
    command = [str(PLAYBOOK), "-i", "localhost,", "-c", "local", f"{tmp_path}/plan.yml", "--check"]
    done = subprocess.run(command, capture_output=True, text=True, env={**os.environ, "LC_ALL": "C.UTF-8"}, check=False)
    assert done.returncode != 0 and "name the servers that are meant" in done.stdout + done.stderr
