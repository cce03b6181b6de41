"""What is said of bodies that mod_security inspects, held against real servers; then a plan, carried out."""

import http.client
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest
from debian_root import STORE, Root, with_libraries, with_pool

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.survey.observe import survey
from tests.around import needs
from tests.webservers.inspected_bodies import CASES, HOST, LARGE, NGINX, NGINX_CASES, Case, refused

from .carried_out import fundamentum
from .running import start_fpm, stop, stop_web_servers, wait_for

pytestmark = pytest.mark.real
PORT = 8204
SITE = "plates.observatory.example"
SCRIPT = "<?php echo 'OK', $_FILES['f']['error'] ?? '';"
WIDE = "post_max_size = 100M\nupload_max_filesize = 100M\nmemory_limit = 300M\n"
MAIN = f"Listen 127.0.0.1:{PORT}\nServerName mizar\n"
NEEDS = f'[uploads]\nlargest = "{LARGE}"\n'


@pytest.fixture(scope="module")
def mizar() -> Iterator[Root]:
    root = with_libraries("bookworm").copy(STORE / "test-inspected")
    root.install("php8.2-fpm", "apache2", "libapache2-mod-security2", "patch")
    root.write("/etc/apache2/ports.conf", "")
    root.run("a2enmod", "-q", "proxy_fcgi")
    with pool(root):
        yield root


@pytest.fixture(scope="module")
def vega() -> Iterator[Root]:
    root = with_pool().copy(STORE / "test-inspected-nginx")
    root.run("apt-get", "update")
    root.install("libnginx-mod-http-modsecurity")
    root.write("/etc/nginx/more.conf", "SecRequestBodyLimit 1000000\n")
    with pool(root):
        yield root


@contextmanager
def pool(root: Root) -> Iterator[None]:
    """PHP takes what is larger by far."""
    root.write("/etc/php/8.2/fpm/conf.d/99-wide.ini", WIDE)
    root.write("/srv/a/index.php", SCRIPT)
    fpm = start_fpm(root, "8.2")
    try:
        wait_for(root.path / "run/php/php8.2-fpm.sock")
        yield
    finally:
        stop(fpm)
        shutil.rmtree(root.path, ignore_errors=True)


@contextmanager
def serving(root: Root, *command: str) -> Iterator[None]:
    root.run(*command)
    try:
        yield
    finally:
        stop_web_servers(root)


def taken() -> bool:
    """Whether the site takes the large file."""
    head = b'--x\r\nContent-Disposition: form-data; name="f"; filename="plate"\r\n\r\n'
    body = head + b"x" * LARGE + b"\r\n--x--\r\n"
    connection = http.client.HTTPConnection("127.0.0.1", PORT, timeout=20)
    with suppress(BrokenPipeError, ConnectionResetError):  # it is refused before all of it is sent
        connection.request(
            "POST", "/index.php", body, {"Host": SITE, "Content-Type": "multipart/form-data; boundary=x"}
        )
        return connection.getresponse().read() == b"OK0"
    return False


def set_up(root: Root, name: str) -> None:
    server, host, folder, _ = CASES[name]
    root.write("/etc/modsecurity/modsecurity.conf", server)
    site = MAIN + HOST.format(port=PORT, host=host, folder=folder)
    root.write("/etc/apache2/sites-available/000-default.conf", site)


def judged(root: Root) -> str:
    surveyed = survey(DirectoryHost(root.path, "mizar"))
    (finding,) = (each for each in check(needs(NEEDS), surveyed, SITE).findings if each.need == "uploads:largest")
    return finding.verdict


def compared(said: dict[str, str], seen: dict[str, bool], cases: dict[str, Case]) -> None:
    expected = {False: "met", True: "unmet", None: "unknown"}
    assert said == {name: expected[refused(sizes)] for name, (*_, sizes) in cases.items()}
    told = {name for name in cases if said[name] != "unknown"}
    assert {name: said[name] == "met" for name in told} == {name: seen[name] for name in told}


def test_no_body_is_said_to_pass_that_is_refused(mizar: Root) -> None:
    said, seen = {}, {}
    for name in CASES:
        set_up(mizar, name)
        with serving(mizar, "apache2ctl", "start"):
            seen[name], said[name] = taken(), judged(mizar)
    compared(said, seen, CASES)


def test_nor_by_nginx(vega: Root) -> None:
    said, seen = {}, {}
    cases = {
        name: case for name, case in NGINX_CASES.items() if name != "rules that are not there"
    }  # it does not start
    for name, (rules, host, folder, _) in cases.items():
        vega.write("/etc/nginx/rules.conf", rules)
        vega.write("/etc/nginx/sites-available/default", NGINX.format(port=PORT, host=host, folder=folder))
        with serving(vega, "nginx"):
            seen[name], said[name] = taken(), judged(vega)
    compared(said, seen, cases)


@pytest.mark.parametrize("name", ["a limit", "only noted", "less for the directory"])
def test_what_is_refused_before_is_taken_after_the_plan(mizar: Root, tmp_path: Path, name: str) -> None:
    set_up(mizar, name)
    file = tmp_path / "plates.needs.toml"
    file.write_text(f'format = 1\n[application]\nname = "plates"\n{NEEDS}')
    of_site = (str(file), "--server", str(mizar.path), "--runtime", SITE)
    with serving(mizar, "apache2ctl", "start"):
        assert not taken()
        code, script = fundamentum("plan", *of_site, "--format", "script")
        assert code == 0 and "SecRequestBodyLimit" in script
        mizar.write("/root/plan.sh", script)
        mizar.run("sh", "/root/plan.sh", "--yes")
    with serving(mizar, "apache2ctl", "start"):
        assert taken()
        assert fundamentum("check", *of_site)[0] == 0
