"""The Debian family.  Source: the layout of Debian's packages of PHP, nginx and Apache."""

import re
from collections.abc import Mapping, Sequence
from typing import Any

from fundamentum.hosts.base import Host
from fundamentum.model.locale_names import spelled_alike
from fundamentum.model.packages import Offer, Relation
from fundamentum.model.recorded_paths import Recorded
from fundamentum.platforms.base import MARIADB_TEST, Platform
from fundamentum.platforms.debian import control, package_names

STATUS = "/var/lib/dpkg/status"


class Debian(Platform):
    """Debian and what calls itself like it."""

    title = "Debian family"
    ids = frozenset({"debian"})
    marks = ("/etc/debian_version", "/etc/apt")
    php_user = "www-data"
    sapi_packages = {
        "cli": "php{branch}-cli",
        "fpm": "php{branch}-fpm",
        "apache2": "libapache2-mod-php{branch}",
        "cgi": "php{branch}-cgi",
    }
    packaged = resolved_here = True
    script_language = "sh"
    refresh = "apt-get update"
    indexes = "Packages files"
    web_additions = {"apache2": "/etc/apache2/conf-enabled"}
    web_sites = {
        "apache2": ("/etc/apache2/sites-available", "/etc/apache2/sites-enabled"),
        "nginx": ("/etc/nginx/sites-available", "/etc/nginx/sites-enabled"),
    }
    web_folders = {"nginx": "/etc/nginx/conf.d"}
    firewall_off = ("/etc/ufw/ufw.conf", "ENABLED=no")
    database_services = {"mariadb": "mariadb", "mysql": "mysql", "postgresql": "postgresql"}
    release_id = "debian"
    other_installers = ("apt", "aptitude")
    other_services = frozenset({"redis-server", "valkey-server", "memcached", "postfix", "exim4", "rabbitmq-server"})
    database_additions = {
        "mariadb": "/etc/mysql/mariadb.conf.d",
        "mysql": "/etc/mysql/mysql.conf.d",
        "postgresql": "/etc/postgresql/{version}/main/conf.d",
    }
    modules_by_name = switches_by_name = makes_locales = True
    configuration = ("/etc/php",)
    root_signs = ("var/lib/dpkg/status", "etc/php")
    recorded = Recorded(
        here=(
            *("/usr/lib/php", "/etc/apt", "/etc/apt/preferences", "/etc/apt/apt.conf"),
            *("/var/lib/dpkg", "/var/lib/dpkg/status", "/var/lib/dpkg/info", "/var/lib/dpkg/info/*php*.list"),
            *("/var/lib/apt", "/var/lib/apt/lists", "/var/lib/apt/lists/*Packages*", "/var/lib/apt/lists/*Release"),
            *("/usr/lib/cgi-bin", "/usr/lib/cgi-bin/php*", "/etc/php5", "/etc/php5/*"),
            *("/etc/alternatives", "/etc/alternatives/php*", "/etc/default/php*", "/run/php/*"),
        ),
        below=("/etc/php", "/etc/apt/preferences.d", "/etc/apt/apt.conf.d"),
        extensions=("/usr/lib/php",),
    )

    def has_database(self, host: Host) -> bool:
        return host.stat(STATUS) is not None

    def switch_file(self, branch: str, extension: str) -> str | None:
        return f"/etc/php/{branch}/mods-available/{extension}.ini"

    def locale_packages(self, name: str) -> tuple[str, ...]:
        return ("locales",)

    def locale_commands(self, name: str) -> tuple[list[str], list[str], list[str]]:
        """Source: locale-gen(8), locale.gen(5)."""
        language, _, characters = name.partition(".")
        line = f"{name} {characters or 'ISO-8859-1'}" if characters.upper() != "UTF8" else f"{language}.UTF-8 UTF-8"
        there = spelled_alike(name).partition(".")
        known = ["sh", "-c", 'locale -a | grep -qix -- "$1"', "sh", f"{language}.{there[2]}" if there[2] else language]
        make = ["sh", "-c", 'printf "%s\\n" "$1" >>/etc/locale.gen && locale-gen', "sh", line]
        back = ["sh", "-c", 'sed -i "/^$1\\$/d" /etc/locale.gen && locale-gen', "sh", line]
        return known, make, back

    def switch_on(self, branch: str, sapi: str, switch: str) -> list[str]:
        return ["phpenmod", "-v", branch, "-s", sapi, switch]

    def is_switched_on(self, branch: str, sapi: str, switch: str) -> list[str]:
        return ["phpquery", "-q", "-v", branch, "-s", sapi, "-m", switch]

    def switch_off(self, branch: str, sapi: str, switch: str) -> list[str]:
        return ["phpdismod", "-v", branch, "-s", sapi, switch]

    def branch_of_offer(self, offer: Offer) -> str | None:
        return package_names.branch_of(offer)

    def extensions_in(self, offer: Offer, branch: str) -> set[str]:
        return package_names.extensions_in(offer, branch)

    def names_branch(self, package: str, branch: str) -> bool:
        return package.startswith(f"php{branch}-")

    def relations(self, field: str) -> list[list[Relation]]:
        return control.relations(field)

    def program(self, branch: str) -> str:
        return f"/usr/bin/php{branch}"

    def order(self, first: str, second: str) -> int:
        from debian.debian_support import version_compare  # noqa: PLC0415 — slow to import, and seldom needed

        try:
            return int(version_compare(first, second))
        except ValueError:  # no version of this family's
            return super().order(first, second)

    def upgrades_by_source(self, present: Mapping[str, str]) -> bool:
        """Source: apt's NEWS of version 2.5.2."""
        return "apt" in present and self.order(present["apt"], "2.5.2") >= 0

    def install(self, packages: Sequence[str], *, again: bool = False) -> list[str]:
        return ["apt-get", "install", *(["--reinstall"] if again else []), "--no-install-recommends", *packages]

    def uninstall(self, packages: Sequence[str]) -> list[str]:
        return ["apt-get", "remove", *packages]

    def ansible_install(self, packages: Sequence[str]) -> tuple[str, dict[str, Any]]:
        return "apt", {"install_recommends": False}

    def service_check(self, service: str) -> list[str]:
        if match := re.fullmatch(r"php(\d+\.\d+)-fpm", service):
            return [f"/run/php/{service}.pid", f"php-fpm{match[1]}", "-t"]
        if service == "nginx":
            return ["/run/nginx.pid", "nginx", "-t"]
        if service == "apache2":
            return ["/run/apache2/apache2.pid", "apache2ctl", "configtest"]
        if service == "mariadb":
            return ["/run/mysqld/mysqld.pid", "sh", "-c", MARIADB_TEST]
        if service == "mysql":
            return ["/run/mysqld/mysqld.pid", "mysqld", "--validate-config"]
        return super().service_check(service)


PLATFORM = Debian()
