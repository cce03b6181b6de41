"""Whether Apache hands PHP files to a runtime, where modules are switched on by name."""

import pytest

from fundamentum.model.findings import Finding, Target
from fundamentum.model.need_id import NeedId
from fundamentum.model.origin import Origin
from fundamentum.model.php import Runtime, Sapi
from fundamentum.model.surrounding_facts import WebServer
from fundamentum.model.survey import Site, Survey
from fundamentum.model.system import System
from fundamentum.webservers import webserver

MET = Finding(NeedId("php"), "required", "met")
NGINX = WebServer("nginx")
SITE = Site("a", "apache2", Origin("/x", 1))
LOADED = "a2dismod mpm_event; a2enmod mpm_prefork php8.2; restart apache2"
CASES = [  # sapi, Apache's modules and snippets (None: no Apache), others, sites, offered; verdict, state, remedy, packages
    ("apache2", (("mpm_prefork", "php8.2"), ()), (), (), False, "met", None, None, None),
    ("apache2", (("mpm_event",), ()), (), (), False, "unmet", "switched-off", LOADED, ""),
    ("apache2", (("mpm_prefork",), ()), (), (), False, "unmet", "switched-off", "a2enmod php8.2; restart apache2", ""),
    ("apache2", (("mpm_prefork", "php7.4"), ()), (), (), False, "unmet", "other-branch", "decide which PHP Apache runs: a2dismod php7.4 and a2enmod php8.2, or another way of running this one", None),
    ("apache2", None, (), (), True, "unmet", "switched-off", "install apache2 and switch php8.2 on in it", "apache2"),
    ("apache2", None, (), (), False, "unmet", "switched-off", "install apache2 and switch php8.2 on in it", None),
    ("fpm", (("proxy_fcgi",), ("php8.2-fpm",)), (), (), False, "met", None, None, None),
    ("fpm", (("proxy_fcgi",), ()), (), (), False, "unmet", "switched-off", "a2enmod setenvif; a2enconf php8.2-fpm; restart apache2", ""),
    ("fpm", ((), ()), (), (), False, "unmet", "switched-off", "a2enmod proxy_fcgi setenvif; a2enconf php8.2-fpm; restart apache2", ""),
    ("fpm", ((), ()), (NGINX,), (), False, "met", None, None, None),
    ("fpm", ((), ()), (), (SITE,), False, "met", None, None, None),
    ("fpm", (("php7.4",), ()), (), (), False, "met", None, None, None),
    ("fpm", ((), ("php7.4-fpm",)), (), (), False, "met", None, None, None),
    ("fpm", None, (), (), False, "met", None, None, None),
    ("cgi", ((), ()), (), (), False, "met", None, None, None),
]  # fmt: skip


def judged(sapi: Sapi, apache: tuple[tuple[str, ...], tuple[str, ...]] | None, others: tuple[WebServer, ...], sites: tuple[Site, ...], offered: bool, named: bool = False, present: bool = True) -> Finding:  # fmt: skip
    servers = ((WebServer("apache2", apache[0], (), apache[1]),) if apache else ()) + others
    survey = Survey(2, "vega", System(family="debian"), sites=sites, web_servers=servers)
    target = Target(Runtime("8.2", sapi, "8.2.9", "www" if sapi == "fpm" else None), "x", present, named=named)
    return webserver("apache2").handed(MET, survey, target, lambda name: offered and name == "apache2")


@pytest.mark.parametrize(
    ("sapi", "apache", "others", "sites", "offered", "verdict", "state", "remedy", "package"), CASES
)
def test_whether_requests_are_handed_on(sapi: Sapi, apache: tuple[tuple[str, ...], tuple[str, ...]] | None, others: tuple[WebServer, ...], sites: tuple[Site, ...], offered: bool, verdict: str, state: str | None, remedy: str | None, package: str | None) -> None:  # fmt: skip
    finding = judged(sapi, apache, others, sites, offered)
    assert (finding.verdict, finding.state, finding.remedy) == (verdict, state, remedy)
    assert (finding.switch and (finding.switch.package or "")) == package
    if finding.switch and apache:
        commands = [command.name for command in webserver("apache2").switching(finding.switch)]
        assert all(name in (remedy or "") for name in commands)


def test_a_runtime_that_was_named_is_remarked_on_only() -> None:
    finding = judged("apache2", (("mpm_event",), ()), (), (), False, named=True)
    assert (finding.verdict, finding.remark) == (
        "met",
        f"Apache does not load php8.2, and hands out the source of PHP files: {LOADED}",
    )
    assert judged("apache2", (("mpm_event",), ()), (), (), False, present=False) == MET
