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
from fundamentum.report.plans.script import as_script
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
    surveyed = survey(DirectoryHost(root.path, "laboratory", live=True))
    made = plan([needs()], surveyed, "a", today=TODAY)
    assert made.complete, made.unresolved
    root.write("/root/plan.sh", as_script(made))
    root.run("sh", "/root/plan.sh", "--yes")


def unreadable(root: Root) -> None:
    """Not to be read by others, and not kept in memory either."""
    (root.path / "srv/a/index.php").chmod(0o600)
    restarted(root)


def again(root: Root, server: str) -> None:
    """The web server reads its configuration, and is done with it."""
    time.sleep(1.1)  # what is written afterwards is younger than this
    root.run("nginx", "-s", "reload") if server == "nginx" else root.run("apache2ctl", "graceful")
    time.sleep(1.1)


def not_enabled(root: Root) -> None:
    site = root.path / "etc/nginx/sites-enabled/site"
    site.rename(root.path / "etc/nginx/sites-available/site")
    again(root, "nginx")


def not_enabled_in_apache(root: Root) -> None:
    site = root.path / "etc/apache2/sites-enabled/site.conf"
    listen, rest = site.read_text().split("\n", 1)
    root.write("/etc/apache2/ports.conf", f"{listen}\n")
    root.write("/etc/apache2/sites-available/site.conf", rest)
    site.write_text("<VirtualHost *>\nServerName other\nDocumentRoot /nowhere\n</VirtualHost>\n")
    site.rename(site.with_name("other.conf"))
    again(root, "apache")


def not_read_since(root: Root) -> None:
    site = root.path / "etc/nginx/sites-enabled/site"
    text = site.read_text()
    site.write_text("")
    again(root, "nginx")
    site.write_text(text)


def module_not_loaded(root: Root) -> None:
    root.run("a2dismod", "-q", "-f", f"php{BRANCH}")
    again(root, "apache")
    root.run("a2enmod", "-q", f"php{BRANCH}")


def changed_site(server: str, old: str, new: str) -> Callable[[Root], None]:
    """The site's file with other words, and the web server having read it."""
    name = "nginx/sites-enabled/site" if server == "nginx" else "apache2/sites-enabled/site.conf"

    def change(root: Root) -> None:
        site = root.path / "etc" / name
        assert old in site.read_text()
        site.write_text(site.read_text().replace(old, new))
        again(root, server)

    return change


def pool_not_read(root: Root) -> None:
    pool = f"[late]\nuser = www-data\nlisten = /run/php/late.sock\nlisten.owner = www-data\n{PROCESSES}"
    root.write(f"/etc/php/{BRANCH}/fpm/pool.d/late.conf", pool)
    changed_site("nginx", f"php{BRANCH}-fpm.sock", "late.sock")(root)


def no_links_followed(root: Root) -> None:
    """Rewriting in a directory where no links are followed."""
    root.run("a2enmod", "-q", "rewrite")
    rules = "<Directory /srv>\nOptions None\n</Directory>\n<Directory /srv/a>\nRewriteEngine On\nRewriteRule ^x$ /y\n</Directory>"
    changed_site("apache", "DocumentRoot /srv/a", f"DocumentRoot /srv/a\n{rules}")(root)
    root.run("apache2ctl", "restart")


def behind_a_link(root: Root) -> None:
    """The document root is a link in a directory where none are followed."""
    root.run("sh", "-ec", "mv /srv/a /srv/real; ln -s /srv/real /srv/a")
    shut = "<Directory /srv>\nOptions None\n</Directory>"
    changed_site("apache", "DocumentRoot /srv/a", f"DocumentRoot /srv/a\n{shut}")(root)


def other_ending(root: Root) -> None:
    """The pool runs files with another ending than that of the site's scripts."""
    root.write(f"/etc/php/{BRANCH}/fpm/pool.d/xx.conf", "[www]\nsecurity.limit_extensions = .phtml\n")
    restarted(root)


def prepended(path: str) -> Callable[[Root], None]:
    """PHP is told to run a file before each script."""

    def change(root: Root) -> None:
        root.write("/srv/closed.php", "<?php\n")
        (root.path / "srv/closed.php").chmod(0o600)
        root.write(f"/etc/php/{BRANCH}/fpm/conf.d/99-first.ini", f"auto_prepend_file = {path}\n")
        restarted(root)

    return change


PROCESSES = "pm = static\npm.max_children = 1\n"
DENY = "index index.php;\n    deny all;"
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
    ("fpm: nothing", "a is set up in /etc/nginx/sites-available/site, which nginx does not read", not_enabled, by_plan),
    ("module: nothing", "a is set up in /etc/apache2/sites-available/site.conf, which Apache does not read", not_enabled_in_apache, by_plan),
    ("fpm: nothing", "/etc/nginx/sites-enabled/site changed after nginx had read it", not_read_since, by_plan),
    ("module: nothing", f"/etc/apache2/mods-enabled/php{BRANCH}.load changed after Apache had read it", module_not_loaded, by_plan),
    ("module: nothing", f"Apache listens at no port {PORT}", changed_site("apache", f"Listen 127.0.0.1:{PORT}", "Listen 127.0.0.1:8168"), by_plan),
    ("module: nothing", "Apache refuses all of it: Require all denied", changed_site("apache", "Require all granted", ""), by_plan),
    ("fpm: nothing", "nginx refuses all of it: deny all", changed_site("nginx", "index index.php;", DENY), changed_site("nginx", DENY, "index index.php;")),
    ("fpm: nothing", f"php{BRANCH}-fpm does not wait at /run/php/late.sock", pool_not_read, by_plan),
    ("module: nothing", "rewriting needs Options FollowSymLinks", no_links_followed, by_plan),
    ("module: nothing", "Apache does not follow the link /srv/a", behind_a_link, changed_site("apache", "Options None", "Options FollowSymLinks")),
    ("fpm: nothing", "auto_prepend_file (/srv/none.php) is not there", prepended("/srv/none.php"), prepended("")),
    ("fpm: nothing", "auto_prepend_file (/srv/closed.php) may not be read by www-data", prepended("/srv/closed.php"), mode("srv/closed.php", 0o644)),
    ("fpm: nothing", "8.2/fpm/www runs files that end in .phtml alone", other_ending, by_plan),
    ("module: engine off in an access file", "PHP is switched off for a", lambda root: None, by_plan),
]  # fmt: skip


def first(root: Root) -> Finding:
    surveyed = survey(DirectoryHost(root.path, "laboratory", live=True))
    return check(needs(), surveyed, "a").findings[0]


def answers(path: str = "/index.php") -> bool:
    for _ in range(40):
        try:
            if "failing" not in asked(PORT, path=path):
                return True
        except (urllib.error.URLError, OSError):
            pass
        time.sleep(0.05)
    return False


@pytest.mark.parametrize(("case", "words", "broken", "mended"), LINKS, ids=[link[1] for link in LINKS])
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
            for _ in range(30):  # a worker that was told to end may take a moment
                if first(root).verdict == "met":
                    break
                time.sleep(0.1)
            assert first(root).verdict == "met", first(root).found
        finally:
            for manager in MANAGERS:
                manager.terminate()
                manager.wait(20)
            MANAGERS.clear()


@pytest.mark.parametrize(
    ("case", "old"), [("fpm: nothing", "    index index.php;\n"), ("module: nothing", "DocumentRoot /srv/a\n")]
)
def test_a_site_without_an_index_file_answers_but_not_at_its_address(case: str, old: str) -> None:
    server, files = files_of(case, BRANCH, PORT)
    new = "" if server == "nginx" else f"{old}DirectoryIndex index.html\n"
    with running("bookworm", files, server, PORT) as root:
        changed_site(server, old, new)(root)
        assert (answers("/index.php"), answers("/")) == (True, False)
        said = first(root)
        assert (said.verdict, "a request for / finds no index file" in (said.found or "")) == ("unmet", True), (
            said.found
        )
        by_plan(root)
        assert answers("/")
        assert first(root).verdict == "met", first(root).found
