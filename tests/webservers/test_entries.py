"""What each web server says of itself."""

import re
from typing import Any

import pytest

from fundamentum.model.findings import Switch
from fundamentum.model.origin import Origin
from fundamentum.model.packages import Installed
from fundamentum.model.php import Branch
from fundamentum.model.surrounding_facts import Limit, Spot
from fundamentum.model.survey import Site, Survey
from fundamentum.model.system import System
from fundamentum.model.windows_words import windows_line
from fundamentum.webservers import names, packages, webserver

PROCESSES = [  # command line, which main process it is
    ("nginx: master process /usr/sbin/nginx -g daemon on;", "nginx"), ("nginx: worker process", None), ("/usr/sbin/apache2 -k start", "apache2"),
    ("apache2", "apache2"), ("/usr/sbin/httpd -DFOREGROUND", "apache2"), ("/usr/bin/apache2ctl start", None), ("/opt/bin/apache2", None),
]  # fmt: skip


@pytest.mark.parametrize(("line", "server"), PROCESSES)
def test_processes(line: str, server: str | None) -> None:
    known = {name: webserver(name).process for name in names() if webserver(name).process}
    assert [name for name, beginning in known.items() if re.match(f"({beginning})( |$)", line)] == [server] * bool(
        server
    )


def test_packages() -> None:
    assert {
        "nginx",
        "nginx-core",
        "nginx-light",
        "nginx-full",
        "nginx-extras",
        "apache2",
        "httpd",
        "lighttpd",
        "caddy",
    } == set(packages())
    assert [webserver(name).package for name in ("nginx", "apache2", "iis")] == ["nginx", "apache2", ""]
    assert [webserver(name).title for name in ("nginx", "apache2", "iis", "dome")] == [
        "nginx",
        "Apache",
        "IIS",
        "web server",
    ]


WRITTEN = [  # web server, directive, bytes or seconds, text, line
    ("nginx", "client_max_body_size", 3 * 2**20 + 1, "4m", "client_max_body_size 4m;"), ("nginx", "fastcgi_read_timeout", 90, "90s", "fastcgi_read_timeout 90s;"),
    ("apache2", "LimitRequestBody", 5, "5", "LimitRequestBody 5"), ("apache2", "ProxyTimeout", 90, "90", "ProxyTimeout 90"), ("apache2", "FcgidIOTimeout", 9, "9", "FcgidIOTimeout 9"),
    ("apache2", "FcgidBusyTimeout", 9, "9", "FcgidBusyTimeout 9"), ("apache2", "FcgidMaxRequestLen", 9, "9", "FcgidMaxRequestLen 9"),
    ("iis", "maxAllowedContentLength", 7, "7", "maxAllowedContentLength 7"), ("iis", "activityTimeout", 7, "7", "activityTimeout 7"), ("iis", "requestTimeout", 7, "7", "requestTimeout 7"),
]  # fmt: skip


@pytest.mark.parametrize(("server", "name", "number", "text", "line"), WRITTEN)
def test_how_limits_are_written_and_read(server: str, name: str, number: int, text: str, line: str) -> None:
    of = webserver(server)
    directive = {**of.sizes, **of.times}[name]
    assert directive.write(number) == text
    assert number <= (directive.read(text) or 0) < number + 2**20
    assert of.statement(name, text) == line
    assert not directive.by_hand
    assert directive.read("soon") is None


OWN, SPOT = Spot("/x", 3), Spot("/x", 9)
WORDS: list[tuple[str, dict[str, Any], dict[str, Any], bool, str]] = [  # web server, of the limit, of the site, by hand, words
    ("nginx", {"own": OWN}, {"spot": SPOT}, False, "write a 2; at /x:3"), ("nginx", {}, {"spot": SPOT}, False, "add a 2; behind /x:9"),
    ("nginx", {}, {}, False, "write a 2; where s is set up (/c:1)"), ("apache2", {"own": OWN}, {}, False, "write a 2 at /x:3"),
    ("apache2", {}, {}, True, "change a=1 to a=2 at /c:5"), ("iis", {"own": OWN}, {"spot": SPOT}, False, "set a to 2 for s"),
]  # fmt: skip


@pytest.mark.parametrize(("server", "limit", "site", "by_hand", "words"), WORDS)
def test_how_a_limit_is_widened(
    server: str, limit: dict[str, Any], site: dict[str, Any], by_hand: bool, words: str
) -> None:
    one = Limit("a", "1", Origin("/c", 5), **limit)
    assert webserver(server).widening(Site("s", server, Origin("/c", 1), **site), one, "2", by_hand) == words
    assert webserver(server).by_command is (server == "iis")


VERSIONS = [
    ("apache2-bin", "2.4.52-1", "0"),
    ("httpd", "2.4.53-1", "1073741824"),
    ("httpd-core", "1:2.4.6-1", "0"),
    ("apache2", "2.4.62", "1073741824"),
    ("other", "2.4.1", "1073741824"),
]


@pytest.mark.parametrize(("package", "version", "value"), VERSIONS)
def test_what_is_built_into_apache_depends_on_its_version(package: str, version: str, value: str) -> None:
    survey = Survey(2, "x", System(), installed=(Installed(package, version),))
    of = webserver("apache2")
    assert of.value(Limit("LimitRequestBody", ""), survey) == value
    assert of.value(Limit("LimitRequestBody", "7"), survey) == "7"
    assert of.value(Limit("ProxyTimeout", ""), survey) == ""


def test_apache_switches_and_what_is_then_served() -> None:
    of = webserver("apache2")
    switch = Switch("apache2", ("php8.2",), ("mpm_event",), ("php8.4-fpm",))
    assert [
        (switch_command.name, switch_command.query, switch_command.command, switch_command.on)
        for switch_command in of.switching(switch)
    ] == [
        ("mpm_event", ("a2query", "-q", "-m", "mpm_event"), ("a2dismod", "-q", "-f", "mpm_event"), False),
        ("php8.2", ("a2query", "-q", "-m", "php8.2"), ("a2enmod", "-q", "php8.2"), True),
        ("php8.4-fpm", ("a2query", "-q", "-c", "php8.4-fpm"), ("a2enconf", "-q", "php8.4-fpm"), True),
    ]
    assert of.serving(switch) == {("8.2", "apache2"), ("8.4", "fpm")}
    assert (of.fresh("apache2").modules, webserver("nginx").fresh("nginx").modules) == (("mpm_event",), ())
    assert (of.opens_section("  <Directory /x>"), of.opens_section("Timeout 5")) == (True, False)
    assert webserver("nginx").switching(switch) == []


def test_the_commands_of_iis() -> None:
    of = webserver("iis")
    assert (
        windows_line(of.command("plates", "maxAllowedContentLength", "2", ""))
        == r"%windir%\system32\inetsrv\appcmd.exe set config plates /section:system.webServer/security/requestFiltering /requestLimits.maxAllowedContentLength:2"
    )
    assert (
        windows_line(of.command("plates", "requestTimeout", "9", "/php/php-cgi.exe"))
        == r"""%windir%\system32\inetsrv\appcmd.exe set config /section:system.webServer/fastCgi "/[fullPath='C:\php\php-cgi.exe'].requestTimeout:9" /commit:apphost"""
    )
    branch = Branch("8.3", "", "")
    assert of.unsuited(branch) is None
    assert "the other build" in (of.unsuited(Branch("8.3", "", "", thread_safe=True)) or "")
    assert webserver("nginx").unsuited(branch) is None
