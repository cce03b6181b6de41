"""Every link of the way in, broken once on a real server: named first, and mended by what is advised."""

import os
import signal
import subprocess
import time
import urllib.error
from collections.abc import Callable

import pytest
from debian_root import Root

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.findings import Finding
from fundamentum.plan.planner import plan
from fundamentum.report.script import as_script
from fundamentum.survey.observe import survey
from tests.sites.cases import files_of
from tests.small_root import TODAY, needs

from .laboratory import asked, running, started

pytestmark = pytest.mark.real
PORT = 8162
BRANCH = "8.2"


def stop(root: Root, file: str) -> None:
    os.kill(int((root.path / file).read_text()), signal.SIGTERM)
    for _ in range(100):
        if not (root.path / file).exists():
            return
        time.sleep(0.05)


def mode(path: str, bits: int) -> Callable[[Root], None]:
    return lambda root: (root.path / path).chmod(bits)


def restarted(root: Root) -> None:
    """The process manager again, with its configuration as it is now; the test's own daemon has ended by then."""
    stop(root, f"run/php/php{BRANCH}-fpm.pid")
    time.sleep(0.3)
    MANAGERS.append(started(root, BRANCH))


def closed_socket(root: Root) -> None:
    pool = root.path / f"etc/php/{BRANCH}/fpm/pool.d/www.conf"
    pool.write_text(pool.read_text().replace("listen.owner = www-data", "").replace("listen.group = www-data", ""))
    restarted(root)


def by_plan(root: Root) -> None:
    """As the plan's own script does it."""
    found = survey(DirectoryHost(root.path, "laboratory", live=True))
    made = plan([needs()], found, "a", today=TODAY)
    assert made.complete, made.unresolved
    root.write("/root/plan.sh", as_script(made))
    root.run("sh", "/root/plan.sh", "--yes")


def unreadable(root: Root) -> None:
    """Not to be read by others, and not kept in memory either."""
    (root.path / "srv/a/index.php").chmod(0o600)
    restarted(root)


MANAGERS: list["subprocess.Popen[bytes]"] = []
LINKS: list[tuple[str, str, Callable[[Root], object], Callable[[Root], object]]] = [  # case, words, how it breaks, how it is mended
    ("fpm: nothing", "nginx is not running", lambda root: stop(root, "run/nginx.pid"), by_plan),
    ("module: nothing", "Apache is not running", lambda root: stop(root, "run/apache2/apache2.pid"), by_plan),
    ("fpm: nothing", "php8.2-fpm is not running", lambda root: stop(root, "run/php/php8.2-fpm.pid"), by_plan),
    ("fpm: nothing", "www-data may not pass through /srv/a", mode("srv/a", 0o700), by_plan),
    ("module: nothing", "www-data may not pass through /srv ", mode("srv", 0o700), by_plan),
    ("fpm: nothing", "may not read /srv/a/index.php", unreadable, by_plan),
    ("fpm: nothing", "the socket /run/php/php8.2-fpm.sock is not open to www-data", closed_socket, by_plan),
    ("module: access file, others only", "AllowOverride does not let such a file use php_value", lambda root: None, lambda root: root.write("/srv/a/.htaccess", "")),
    ("module: engine off in an access file", "PHP is switched off for a", lambda root: None, by_plan),
]  # fmt: skip


def first(root: Root) -> Finding:
    found = survey(DirectoryHost(root.path, "laboratory", live=True))
    return check(needs(), found, "a").findings[0]


def answers() -> bool:
    for _ in range(40):
        try:
            if "failing" not in asked(PORT):
                return True
        except (urllib.error.URLError, OSError):
            pass
        time.sleep(0.05)
    return False


@pytest.mark.parametrize(("case", "words", "broken", "mended"), LINKS, ids=[one[1] for one in LINKS])
def test_each_link(case: str, words: str, broken: Callable[[Root], object], mended: Callable[[Root], object]) -> None:
    server, files = files_of(case, BRANCH, PORT)
    with running("bookworm", files, server, PORT) as root:
        try:
            broken(root)
            assert not answers()
            said = first(root)
            assert (said.verdict, words in (said.found or "")) == ("unmet", True), said.found
            mended(root)
            assert answers()
            assert first(root).verdict == "met", first(root).found
        finally:
            for manager in MANAGERS:
                manager.terminate()
                manager.wait(20)
            MANAGERS.clear()
