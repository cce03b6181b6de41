"""The way of a request to PHP: the first link that is broken is what the finding about PHP says."""

from typing import Any

import pytest
from msgspec.structs import replace

from fundamentum.changes.packages import Install
from fundamentum.check.judge import check
from fundamentum.model.findings import Finding
from fundamentum.model.origin import Origin
from fundamentum.model.packages import Offer
from fundamentum.model.php import Refusal, Runtime, Setting
from fundamentum.model.surrounding_facts import Account, Machine, Place, ServerProcess, UnknownLine, WebServer
from fundamentum.model.survey import Site, Survey
from fundamentum.model.system import System
from fundamentum.plan.planner import plan
from tests.small_root import TODAY, needs

WEB, PHP = Account("www-data", 33, (33,), "www-data"), Account("ida", 1000, (1000,), "ida")
ROOT = "/srv/nightlog"


def places(
    mode: int = 0o755, script: int = 0o644, above: int = 0o755, kind: Any = "directory", owner: int = 0
) -> tuple[Place, ...]:
    return (
        Place("/", "directory", mode=0o700),
        Place("/srv", "directory", mode=above),
        Place(ROOT, kind, user=owner, mode=mode),
        Place(f"{ROOT}/index.php", "file", mode=script),
    )


def fenced(value: str | None) -> dict[str, Any]:
    """A pool with this ``open_basedir``."""
    return {"runtime": {"settings": {"open_basedir": Setting(value, Origin("/etc/p.ini", 3))}}}


def first(value: str, *looked_at: Place) -> dict[str, Any]:
    """A file to be run before each script."""
    known = looked_at or (Place("/srv/first.php", "absent"),)
    settings = {"auto_prepend_file": Setting(value, Origin("/etc/p.ini", 3))}
    return {"runtime": {"settings": settings}, "places": (*places(), *known)}


def endings(value: str) -> dict[str, Any]:
    return {"runtime": {"manager": {"security.limit_extensions": Setting(value, Origin("/etc/x.conf", 2))}}}


def doc_root(value: str) -> dict[str, Any]:
    return {"runtime": {"settings": {"doc_root": Setting(value, Origin("/etc/p.ini", 3))}}}


def labels(root: str, script: str = "httpd_sys_content_t", enforcing: bool = True) -> dict[str, Any]:
    """A system that enforces its policy, with these labels in the document root."""
    types = {ROOT: root, f"{ROOT}/index.php": script}
    labelled = (
        replace(place, label=f"system_u:object_r:{types[place.path]}:s0" if types.get(place.path) else "")
        for place in places()
    )
    return {"places": tuple(labelled), "machine": Machine(enforcing=enforcing)}


def unknown_lines(module: str | None) -> dict[str, Any]:
    line = UnknownLine(
        "RewriteEngine is unknown to Apache, which does not load rewrite", Origin("/srv/.htaccess", 1), module
    )
    return {"site": {"unknown_lines": (line,)}}


def judged(server: str = "nginx", sapi: str = "fpm", selector: str | None = None, site: dict[str, Any] | None = None, runtime: dict[str, Any] | None = None, **more: Any) -> Finding:  # fmt: skip
    pool = {"pool": "www", "listen": "/run/php/x.sock", "listen_owner": "www-data", "service": "php8.2-fpm", "pool_file": "/etc/x.conf", "user": "www-data", "started": 5.0} if sapi == "fpm" else {"started": 5.0}  # fmt: skip
    php = Runtime(**{"branch": "8.2", "sapi": sapi, "version": "8.2.9", "serves": True, **pool, **(runtime or {})})
    what: dict[str, Any] = {
        "processes": "seen",
        "servers": (ServerProcess(server, 4.0),),
        "places": places(),
        "accounts": (WEB, PHP),
        **more,
    }
    known = Site(
        **{
            "name": "nightlog",
            "server": server,
            "origin": Origin("/x", 1),
            "root": ROOT,
            "runtime": php.label,
            "user": "www-data",
            **(site or {}),
        }
    )
    survey = Survey(2, "vega", System(family="debian"), runtimes=(php,), sites=(known,), **what)
    return check(needs(), survey, selector).findings[0]


REFUSED = Refusal("pm = fast is none", Origin("/etc/x.conf", 4))
UNSEEN = {"processes": "unseen", "servers": (ServerProcess("nginx"),)}
CASES: list[tuple[dict[str, Any], str, str]] = [  # what is so, words of the finding (empty: nothing is wrong), of the remedy
    ({}, "", ""),
    ({"servers": (ServerProcess("nginx"),)}, "nginx is not running, so nothing answers for nightlog", "systemctl start nginx"),
    (UNSEEN, "", ""),
    ({"servers": (ServerProcess("nginx"),), "processes": "partly"}, "", ""),
    ({"server": "apache2", "servers": (ServerProcess("apache2"),)}, "Apache is not running", "systemctl start apache2"),
    ({"runtime": {"started": None}}, "php8.2-fpm is not running, so nightlog is answered with an error", "systemctl start php8.2-fpm"),
    ({"runtime": {"started": None}, **UNSEEN}, "", ""),
    ({"runtime": {"started": None, "refused": REFUSED}}, "php8.2-fpm does not start: pm = fast is none (/etc/x.conf:4)", "mend that line, and start php8.2-fpm"),
    ({"runtime": {"started": None, "refused": REFUSED}, **UNSEEN}, "php8.2-fpm does not start: pm = fast is none", "mend that line"),
    ({"runtime": {"refused": REFUSED}}, "", ""),
    ({"sapi": "apache2", "server": "apache2", "runtime": {"started": None}}, "", ""),
    ({"site": {"failing": "/srv/.htaccess:1: no"}}, "every request of nightlog fails: /srv/.htaccess:1: no", "take that line out"),
    ({"runtime": {"listen_owner": None}}, "the socket /run/php/x.sock is not open to www-data", "set listen.owner = www-data in /etc/x.conf and restart php8.2-fpm"),
    ({"runtime": {"listen_owner": None, "listen_group": "www-data"}}, "", ""),
    ({"runtime": {"listen_owner": None, "listen_group": "www-data", "listen_mode": 0o640}}, "is not open to www-data", "listen.owner"),
    ({"runtime": {"listen_owner": None, "listen_mode": 0o666}}, "", ""),
    ({"runtime": {"listen_mode": 0o060}}, "is not open to www-data", "listen.owner"),
    ({"runtime": {"listen_owner": None, "listen_open": True}}, "", ""),
    ({"runtime": {"listen_owner": None, "listen": "127.0.0.1:9000"}}, "", ""),
    ({"places": places(above=0o700)}, "www-data may not pass through /srv (mode 0700), so nightlog is refused", "chmod 0701 /srv"),
    ({"places": places(mode=0o700)}, "www-data may not pass through /srv/nightlog (mode 0700)", "chmod 0701 /srv/nightlog"),
    ({"places": places(mode=0o700, owner=33)}, "", ""),
    ({"places": places(mode=0o700, owner=33), "runtime": {"user": "ida"}}, "ida may not pass through /srv/nightlog", "chmod 0701"),
    ({"places": places(script=0o600)}, "www-data, as whom PHP works, may not read /srv/nightlog/index.php (mode 0600)", "chmod 0604 /srv/nightlog/index.php"),
    ({"places": places(kind="absent")}, "", ""),
    (fenced("/srv/other:/tmp"), "open_basedir (/srv/other:/tmp) keeps PHP from the scripts in /srv/nightlog, so", "add /srv/nightlog to open_basedir at /etc/p.ini:3"),
    (fenced("/srv/night"), "keeps PHP from the scripts", "add /srv/nightlog"),
    (fenced("/srv/nightlog/index.php:/tmp"), "", ""),
    (fenced("/srv/"), "", ""),
    (fenced(""), "", ""),
    (fenced(None), "", ""),
    ({**fenced("/srv/other"), "places": ()}, "", ""),
    ({"site": {"user": "ida", "group": "www-data"}, "runtime": {"listen_owner": None, "listen_group": "www-data"}, "groups": {"www-data": 33}}, "", ""),
    ({"site": {"user": "ida"}, "runtime": {"listen_owner": None, "listen_group": "www-data"}}, "is not open to ida", "listen.owner"),
    ({"places": places(script=0o640), "runtime": {"user": "ida", "group": "adm"}, "groups": {"adm": 0}}, "", ""),
    ({"places": places(script=0o640), "runtime": {"user": "ida", "group": "0"}}, "", ""),
    ({"places": places(script=0o640), "runtime": {"user": "ida", "group": "gone"}}, "ida, as whom PHP works, may not read", "chmod 0644"),
    ({"places": places(mode=0o700, kind="unreadable")}, "", ""),
    (first("/srv/first.php"), "auto_prepend_file (/srv/first.php) is not there", "change auto_prepend_file at /etc/p.ini:3"),
    (first("/srv/first.php", Place("/srv/first.php", "file", mode=0o644)), "", ""),
    (first("/srv/first.php", Place("/srv/first.php", "file", mode=0o600)), "auto_prepend_file (/srv/first.php) may not be read by www-data", "let PHP read"),
    (first("/srv/first.php", Place("/srv/first.php", "directory", mode=0o755)), "auto_prepend_file (/srv/first.php) is a directory", "change"),
    (first("first.php", Place(f"{ROOT}/first.php", "file", mode=0o644)), "", ""),
    (first(""), "", ""),
    (endings(".phtml .html"), "8.2/fpm/www runs files that end in .phtml or .html alone, so nightlog is refused", "add .php to security.limit_extensions"),
    (endings(".phtml .PHP"), "", ""),
    (endings(""), "", ""),
    (unknown_lines("rewrite"), "every request of nightlog fails: /srv/.htaccess:1: RewriteEngine is unknown", "install what is missing of rewrite"),
    ({**unknown_lines("rewrite"), "web_servers": (WebServer("nginx", ("rewrite",)),)}, "", ""),
    (doc_root("/srv/nightlog/"), "", ""),
    (labels("httpd_sys_content_t"), "", ""),
    (labels("usr_t", "httpd_sys_rw_content_t"), "", ""),
    (labels("", ""), "", ""),
    (labels("var_t", enforcing=False), "", ""),
    (labels("var_t"), "SELinux keeps the web server from /srv/nightlog (labelled var_t), so nightlog is refused", "semanage fcontext -a -t httpd_sys_content_t '/srv/nightlog(/.*)?' && restorecon -R /srv/nightlog"),
    (labels("httpd_sys_content_t", "user_tmp_t"), "from /srv/nightlog/index.php (labelled user_tmp_t)", "restorecon -R /srv/nightlog"),
    (labels("user_home_t"), "whether SELinux lets the web server read /srv/nightlog (labelled user_home_t) is not known", "getsebool httpd_read_user_content"),
    (labels("plates_t"), "(labelled plates_t) is not known", "ask nightlog for a page"),
    ({"places": (), "accounts": ()}, "", ""),
    ({"places": places(mode=0o700), "accounts": ()}, "", ""),
]  # fmt: skip


@pytest.mark.parametrize(("what", "found", "remedy"), CASES)
def test_the_first_broken_link_is_said(what: dict[str, Any], found: str, remedy: str) -> None:
    finding = judged(**what)
    assert finding.verdict == ("unknown" if found.endswith("is not known") else "unmet" if found else "met")
    assert found in (finding.found or "")
    assert remedy in (finding.remedy or "")
    named = judged(**what, selector="8.2")
    assert named.verdict == "met"
    assert found in (named.remark or "")


@pytest.mark.parametrize(
    ("what", "found"),
    [
        (doc_root("/srv/other"), "PHP looks for scripts in /srv/other (doc_root) and not in /srv/nightlog"),
        (unknown_lines(None), "if none does, every request of nightlog fails"),
        (first("first.php"), "whether PHP finds auto_prepend_file (first.php) is not known"),
        ({**first("/srv/first.php"), "places": places()}, "whether PHP finds auto_prepend_file (/srv/first.php)"),
    ],
)
def test_what_may_be_broken_is_unknown(what: dict[str, Any], found: str) -> None:
    finding = judged(**what)
    assert (finding.verdict, found in (finding.found or "")) == ("unknown", True)


def test_a_web_server_that_does_not_run_does_not_count_beside_one_that_does() -> None:
    php = Runtime("8.2", "cgi", "8.2.9", serves=True, started=5.0)
    sites = tuple(
        Site(name, server, Origin("/x", 1), runtime=php.label) for name, server in (("a", "nginx"), ("b", "apache2"))
    )
    servers = (ServerProcess("nginx"), ServerProcess("apache2", 4.0))
    survey = Survey(2, "vega", System(family="debian"), runtimes=(php,), sites=sites, processes="seen", servers=servers)
    assert check(needs(), survey, php.label).findings[0].verdict == "met"
    assert "nginx is not running" in (check(needs(), survey, "a").findings[0].found or "")


def test_a_site_that_is_handed_to_nothing_is_named() -> None:
    stray = judged(site={"runtime": None, "handler": "unix:/run/php/php7.4-fpm.sock"})
    assert stray.found == "nightlog is handed to unix:/run/php/php7.4-fpm.sock, where no PHP is seen"
    assert (stray.verdict, str(stray.origin)) == ("unmet", "/x:1")


def test_what_is_not_installed_yet_or_not_accepted_is_said_instead() -> None:
    assert "not running" not in (judged(runtime={"version": "7.0.1", "started": None}).found or "")


def test_a_site_handed_to_a_php_that_is_not_there_is_judged_for_what_would_be_installed() -> None:
    survey = look_at("unix:/run/php/php8.2-fpm.sock")
    judged = check(needs("gd"), survey, "a")
    assert (judged.target.runtime.label, judged.target.present) == ("8.2/fpm/www", False)
    assert [(finding.verdict, finding.state) for finding in judged.findings] == [("unmet", "installable")] * 2
    made = plan([needs("gd")], survey, "a", today=TODAY)
    assert made.complete and [install.package for install in made.of(Install)] == ["php8.2-fpm", "php8.2-gd"]
    other = check(needs("gd"), look_at("unix:/run/other.sock"), "a").findings[0]
    assert (other.verdict, other.remedy) == (
        "unmet",
        "hand it to a PHP at /etc/nginx/nginx.conf:1, or let a PHP wait there",
    )
    assert not plan([needs("gd")], look_at("unix:/run/other.sock"), "a", today=TODAY).complete


def test_of_a_site_of_which_cannot_be_told_what_serves_it_nothing_is_known() -> None:
    judged = check(needs("gd"), look_at("$chosen"), "a")
    assert {finding.verdict for finding in judged.findings} == {"unknown"}
    assert judged.findings[1].remedy == "which PHP serves a cannot be told"


def look_at(handler: str) -> Survey:
    """A server without PHP, and a site that is handed to one."""
    offers = tuple(
        Offer(name, "8.2.9-1", "sample", provides=provides, depends=depends)
        for name, provides, depends in (
            ("php8.2-fpm", "phpapi-20220829", ""),
            ("php8.2-gd", "php-gd", "phpapi-20220829"),
        )
    )
    site = Site("a", "nginx", Origin("/etc/nginx/nginx.conf", 1), root=ROOT, handler=handler)
    return Survey(3, "vega", System(family="debian"), installed=(), offers=offers, sites=(site,))


def test_a_part_that_is_handed_elsewhere_is_not_the_site() -> None:
    php = Runtime("8.2", "fpm", "8.2.9", pool="www", serves=True, listen="/run/php/php8.2-fpm.sock")
    site = Site("a", "apache2", Origin("/x", 1), runtime=php.label, handler="unix:/run/php/php8.2-fpm.sock")
    part = Site("a", "apache2", Origin("/y", 1), part="/srv/a/old", handler="unix:/run/php/php7.4-fpm.sock")
    survey = Survey(3, "vega", System(family="debian"), runtimes=(php,), sites=(site, part))
    assert check(needs(), survey, "a").findings[0].verdict == "met"
    judged = check(needs(), survey, "a /srv/a/old")
    assert (judged.findings[0].verdict, "php7.4-fpm.sock" in (judged.findings[0].found or "")) == ("unmet", True)
    made = plan([needs()], survey, "a /srv/a/old", today=TODAY)
    assert not made.complete


def test_what_runs_and_would_not_start_again_is_remarked() -> None:
    finding = judged(runtime={"refused": REFUSED})
    assert finding.remark == "php8.2-fpm would not start again: pm = fast is none (/etc/x.conf:4)"
