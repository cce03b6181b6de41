"""What is said of bodies that mod_security inspects, held against a real Apache; then a plan, carried out."""

import http.client
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest
from debian_root import STORE, Root, with_libraries

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.survey.observe import survey
from tests.around import needs
from tests.webservers.inspected_bodies import CASES, HOST, LARGE, refused

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
    root.write("/etc/php/8.2/fpm/conf.d/99-wide.ini", WIDE)
    root.write("/srv/a/index.php", SCRIPT)
    root.run("a2enmod", "-q", "proxy_fcgi")
    fpm = start_fpm(root, "8.2")
    try:
        wait_for(root.path / "run/php/php8.2-fpm.sock")
        yield root
    finally:
        stop(fpm)
        shutil.rmtree(root.path, ignore_errors=True)


@contextmanager
def serving(root: Root) -> Iterator[None]:
    root.run("apache2ctl", "start")
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
        connection.request("POST", "/", body, {"Host": SITE, "Content-Type": "multipart/form-data; boundary=x"})
        return connection.getresponse().read() == b"OK0"
    return False


def set_up(root: Root, name: str) -> None:
    server, host, folder, _ = CASES[name]
    root.write("/etc/modsecurity/modsecurity.conf", server)
    site = MAIN + HOST.format(port=PORT, host=host, folder=folder)
    root.write("/etc/apache2/sites-available/000-default.conf", site)


def test_no_body_is_said_to_pass_that_is_refused(mizar: Root) -> None:
    said, seen = {}, {}
    expected = {False: "met", True: "unmet", None: "unknown"}
    for name in CASES:
        set_up(mizar, name)
        with serving(mizar):
            seen[name] = taken()
            surveyed = survey(DirectoryHost(mizar.path, "mizar"))
        (finding,) = (each for each in check(needs(NEEDS), surveyed, SITE).findings if each.need == "uploads:largest")
        said[name] = finding.verdict
    assert said == {name: expected[refused(sizes)] for name, (*_, sizes) in CASES.items()}
    assert {name for name, verdict in said.items() if verdict == "met"} == {
        name for name in CASES if seen[name] and said[name] != "unknown"
    }


@pytest.mark.parametrize("name", ["a limit", "only noted", "less for the directory"])
def test_what_is_refused_before_is_taken_after_the_plan(mizar: Root, tmp_path: Path, name: str) -> None:
    set_up(mizar, name)
    file = tmp_path / "plates.needs.toml"
    file.write_text(f'format = 1\n[application]\nname = "plates"\n{NEEDS}')
    of_site = (str(file), "--server", str(mizar.path), "--runtime", SITE)
    with serving(mizar):
        assert not taken()
        code, script = fundamentum("plan", *of_site, "--format", "script")
        assert code == 0 and "SecRequestBodyLimit" in script
        mizar.write("/root/plan.sh", script)
        mizar.run("sh", "/root/plan.sh", "--yes")
    with serving(mizar):
        assert taken()
        assert fundamentum("check", *of_site)[0] == 0
