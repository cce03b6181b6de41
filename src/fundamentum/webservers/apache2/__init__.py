"""Apache's HTTP server.  Its entry is called as its module for PHP calls it (``apache2handler``)."""

import math
import re
from collections.abc import Iterable
from typing import Final

from fundamentum.catalog.quantity import span
from fundamentum.model.findings import Finding, Switch, Target
from fundamentum.model.php import Runtime, Sapi
from fundamentum.model.recorded_paths import Recorded
from fundamentum.model.surrounding_facts import Limit, WebServer
from fundamentum.model.survey import Survey
from fundamentum.webservers.apache2.new_site import site_lines
from fundamentum.webservers.apache2.php_handover import handed
from fundamentum.webservers.base import Directive, NewSite, Offered, SwitchCommand, WebServerType

NAME: Final = "apache2"
_VERSIONED: Final = ("apache2-bin", "apache2", "httpd-core", "httpd")
"""Packages whose version is that of the server."""
_LIMITED: Final = (2, 4, 53)
"""The version from which on a body is limited although nothing says so."""


def _bytes(text: str) -> float | None:
    return float(text) if text.isascii() and text.isdigit() else None


def _bytes_or_none(text: str) -> float | None:
    """A number of bytes, of which 0 is no limit."""
    number = _bytes(text)
    return math.inf if number == 0 else number


class Apache(WebServerType):
    """Apache, with PHP inside it, handed to PHP's process manager, or run as a CGI program."""

    title = "Apache"
    set_up_as = 2
    package = NAME
    packages = (NAME, "httpd")
    process = "(/usr/s?bin/)?(apache2|httpd)"
    signal = "HUP"
    pid_files = ("/run/apache2/apache2.pid", "/run/httpd/httpd.pid", "/usr/local/apache2/logs/httpd.pid")
    available, enabled = "/etc/apache2/sites-available", "/etc/apache2/sites-enabled"
    configuration = ("/etc/apache2", "/etc/httpd", "/usr/local/apache2/conf")
    environment = ("/etc/apache2/envvars", "/etc/sysconfig/httpd")
    read_when_started = ("/etc/apache2", "/etc/httpd")
    recorded = Recorded(
        here=(
            *("/usr/lib/apache2", "/usr/lib/apache2/modules", "/usr/lib/apache2/modules/libphp*", "/usr/lib*/httpd"),
            *("/usr/lib*/httpd/modules", "/usr/lib*/httpd/modules/libphp*", "/usr/local/apache2"),
            *("/etc/sysconfig/httpd", *pid_files),
        ),
        units=("apache2", "httpd"),
    )
    calls_itself = "apache"
    root_directive = "DocumentRoot"
    directory_file = ".htaccess"
    shared_roots = ("/usr/local/apache2",)
    sizes = {
        "LimitRequestBody": Directive(_bytes_or_none),
        "SecRequestBodyLimit": Directive(_bytes),
        "FcgidMaxRequestLen": Directive(_bytes),
    }
    times = {
        "ProxyTimeout": Directive(span),
        "timeout": Directive(span, by_hand=True),
        "FcgidIOTimeout": Directive(span),
        "FcgidBusyTimeout": Directive(span),
    }
    harmless = frozenset(
        "include documentroot servername serveralias listen limitrequestbody timeout proxytimeout proxyset sethandler "
        "secrequestbodylimit secrequestbodyaccess secruleengine "
        "fcgidmaxrequestlen fcgidiotimeout fcgidbusytimeout <virtualhost <directory <directorymatch <location "
        "<locationmatch <files <filesmatch </virtualhost> </directory> </location>".split()
    )
    has_additions = True

    def rereads(self, path: str) -> bool:
        """Not what loads modules: those for processes and threads cannot be exchanged while it runs."""
        return "/mods-enabled/" not in path and "/conf.modules.d/" not in path

    def value(self, limit: Limit, survey: Survey) -> str:
        """The limit on a body: none, and 1 GiB from 2.4.53 on.  Source: Apache's documentation."""
        if limit.name != "LimitRequestBody" or limit.value:
            return limit.value
        versions = {package.name: package.version for package in survey.installed or ()}
        version = next((versions[name] for name in _VERSIONED if name in versions), "")
        numbers = tuple(int(n) for n in re.findall(r"\d+", version.partition(":")[2] or version)[:3])
        return "0" if numbers and numbers < _LIMITED else "1073741824"

    def opens_section(self, line: str) -> bool:
        return line.lstrip().startswith("<")

    def new_site(self, site: NewSite) -> list[str]:
        return site_lines(site)

    def new_limits(self) -> tuple[Limit, ...]:
        return Limit("LimitRequestBody", ""), Limit("ProxyTimeout", "60")

    def lacking(self, modules: Iterable[str], server: WebServer | None) -> tuple[str, ...] | None:
        """Source: a2query(1); where modules are not switched on by name, those that packages load are not known."""
        return tuple(name for name in modules if name not in server.modules) if server else None

    def ways(self, server: WebServer | None) -> tuple[Sapi, ...]:
        """Inside it where that is so already: what is handed to a process manager too would be, needs no more."""
        inside = server is not None and any(re.fullmatch(r"php\d+(?:\.\d+)?", name) for name in server.modules)
        return ("apache2", "fpm") if inside else ("fpm",)

    def handing_on(self, sapi: Sapi) -> tuple[str, ...]:
        return ("proxy_fcgi",) if sapi == "fpm" else ()

    def to_front(self, script: str) -> str:
        return f"write FallbackResource /{script} into the <Directory> of the document root"

    def to_refuse(self, path: str) -> str:
        pattern = re.escape(path.rstrip("/"))
        return f'write <LocationMatch "^{pattern}(?:/|$)"> Require all denied </LocationMatch>'

    def to_hide_lists(self) -> str:
        return "write Options -Indexes into the <Directory> of the document root"

    def fresh(self, name: str) -> WebServer:
        return WebServer(name, ("mpm_event",))

    def handed(self, finding: Finding, survey: Survey, target: Target, offered: Offered) -> Finding:
        return handed(finding, survey, target, offered)

    def hands_all(self, server: WebServer, runtime: Runtime) -> bool:
        on = server.modules if runtime.sapi == "apache2" else server.snippets
        return server.server == NAME and f"php{runtime.branch}{'' if runtime.sapi == 'apache2' else '-fpm'}" in on

    def switching(self, switch: Switch) -> list[SwitchCommand]:
        """Source: a2query(1), a2enmod(8), a2dismod(8), a2enconf(8)."""
        parts = [
            SwitchCommand(name, ("a2query", "-q", kind, name), (*command, name), on, (back, name))
            for kind, command, on, names, back in (
                ("-m", ("a2dismod", "-q", "-f"), False, switch.without, "a2enmod"),
                ("-m", ("a2enmod", "-q"), True, switch.modules, "a2dismod"),
                ("-c", ("a2enconf", "-q"), True, switch.snippets, "a2disconf"),
            )
            for name in names
        ]
        return parts + super().switching(switch)

    def told_of_switching(self, switch: Switch, sites: int) -> str:
        """A module is loaded for all sites, and each of them may have lines for the case that it is."""
        names = " and ".join(switch.modules)
        told = f"all {sites} sites have {names} then: what stands in their <IfModule> for that counts from then on"
        return told if names and sites > 1 else ""

    def serving(self, switch: Switch) -> set[tuple[str, str]]:
        modules = {(name.removeprefix("php"), "apache2") for name in switch.modules if name.startswith("php")}
        return modules | {(name.removeprefix("php").removesuffix("-fpm"), "fpm") for name in switch.snippets}


WEB_SERVER = Apache()
