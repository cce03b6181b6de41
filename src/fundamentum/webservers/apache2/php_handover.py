"""Whether the web server hands PHP files to a runtime at all: if it does not, it hands out their source.

Told only where modules are switched on by name, and for Apache.  Source: Debian's packages of PHP for Apache and of its
process manager (README.Debian), a2enmod(8).
"""

from typing import Final

from msgspec.structs import replace

from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.findings import Finding, Switch, Target
from fundamentum.model.surrounding_facts import WebServer
from fundamentum.model.survey import Survey
from fundamentum.webservers.base import Offered

PACKAGE: Final = "apache2"
THREADED: Final = ("mpm_event", "mpm_worker")
PROXY: Final = ("proxy_fcgi", "setenvif")
_PHP_MODULE: Final = lazy_regex(r"php\d+(?:\.\d+)?")
_PHP_SNIPPET: Final = lazy_regex(r"php\d+\.\d+-(?:fpm|cgi)")


def handed(finding: Finding, survey: Survey, target: Target, offered: Offered) -> Finding:
    """The finding about PHP itself, with what keeps the web server from handing anything to it."""
    if survey.web_servers is None or not target.present or target.runtime.home or finding.verdict != "met":
        return finding
    apache = next((server for server in survey.web_servers if server.server == PACKAGE), None)
    match target.runtime.sapi:
        case "apache2":
            return _as_module(finding, apache, target, offered)
        case "fpm" if apache and not any(server.server != PACKAGE for server in survey.web_servers):
            return _by_proxy(finding, apache, survey, target)
    return finding


def _as_module(finding: Finding, apache: WebServer | None, target: Target, offered: Offered) -> Finding:
    name = f"php{target.runtime.branch}"
    on = apache.modules if apache else ()
    if apache and name in on:
        return finding
    if others := [platform for platform in on if _PHP_MODULE.fullmatch(platform)]:
        actual = f"Apache loads {others[0]}, and only one PHP can be loaded into it"
        remedy = (
            f"decide which PHP Apache runs: a2dismod {others[0]} and a2enmod {name}, or another way of running this one"
        )
        return replace(finding, verdict="unmet", found=actual, remedy=remedy, state="other-branch")
    without = tuple(module for module in THREADED if module in on)
    modules = (name,) if "mpm_prefork" in on else ("mpm_prefork", name)
    if apache is None:
        actual, words = "the module is there, Apache itself is not", f"install {PACKAGE} and switch {name} on in it"
        switch = Switch("apache2", modules, THREADED, package=PACKAGE) if offered(PACKAGE) else None
    else:
        actual, words = (
            f"Apache does not load {name}, and hands out the source of PHP files",
            _words(modules, without, ()),
        )
        switch = Switch("apache2", modules, without)
    return _unhanded(finding, target, actual, words, switch)


def _by_proxy(finding: Finding, apache: WebServer, survey: Survey, target: Target) -> Finding:
    snippet = f"php{target.runtime.branch}-fpm"
    if snippet in apache.snippets:
        return finding
    modules = [module for module in apache.modules if _PHP_MODULE.fullmatch(module)]
    if modules or survey.sites or any(map(_PHP_SNIPPET.fullmatch, apache.snippets)):
        return finding  # Apache runs another PHP: which site is handed to this one is a decision
    actual = f"Apache hands PHP files to nothing, and gives out their source; {target.runtime.label} waits in vain"
    wanted = tuple(module for module in PROXY if module not in apache.modules)
    return _unhanded(finding, target, actual, _words(wanted, (), (snippet,)), Switch("apache2", wanted, (), (snippet,)))


def _unhanded(finding: Finding, target: Target, actual: str, words: str, switch: Switch | None) -> Finding:
    if target.named:
        return replace(finding, remark=f"{actual}: {words}", switch=switch)
    return replace(finding, verdict="unmet", state="switched-off", found=actual, remedy=words, switch=switch)


def _words(modules: tuple[str, ...], without: tuple[str, ...], snippets: tuple[str, ...]) -> str:
    parts = [f"a2dismod {' '.join(without)}"] if without else []
    parts += [f"a2enmod {' '.join(modules)}"] if modules else []
    parts += [f"a2enconf {' '.join(snippets)}"] if snippets else []
    return "; ".join((*parts, "restart apache2"))
