"""The RHEL family.  Source: the layout of its packages of PHP, nginx and Apache, dnf(8)."""

import shlex
from collections.abc import Sequence
from typing import Any

from fundamentum.hosts.base import Host
from fundamentum.model.packages import Offer
from fundamentum.model.php import Sapi
from fundamentum.model.recorded_paths import Recorded
from fundamentum.platforms.base import MARIADB_TEST, PhpPlace, Platform
from fundamentum.platforms.redhat import package_names
from fundamentum.platforms.redhat.rpm_version import rpm_order

DATABASES = tuple(
    f"{folder}/{name}"
    for folder in ("/usr/lib/sysimage/rpm", "/var/lib/rpm")
    for name in ("rpmdb.sqlite", "Packages", "Packages.db")
)
"""Where the package database can be, in the order in which it is looked for."""


class RedHat(Platform):
    """RHEL and what calls itself like it."""

    title = "RHEL family"
    ids = frozenset({"rhel", "fedora", "centos"})
    marks = ("/etc/redhat-release", "/etc/dnf", "/etc/yum.repos.d")
    php_user = pool_user = "apache"
    sapi_packages = {"cli": "php-cli", "fpm": "php-fpm", "apache2": "php", "cgi": "php-cli"}
    one_branch = packaged = True
    script_language = "sh"
    services_enabled = False
    refresh = "dnf makecache"
    indexes = "repodata directories"
    socket_dir = "/run/php-fpm"
    web_services = {"apache2": "httpd"}
    web_additions = {"apache2": "/etc/httpd/conf.d"}
    web_sites = {"apache2": ("/etc/httpd/conf.d", ""), "nginx": ("/etc/nginx/conf.d", "")}
    socket_users = "apache,nginx"
    database_services = {"mariadb": "mariadb", "mysql": "mysqld"}
    release_id = "rhel"
    other_installers = ("yum", "microdnf")
    other_services = frozenset({"redis", "valkey", "memcached", "postfix", "sendmail", "rabbitmq-server"})
    database_additions = {"mariadb": "/etc/my.cnf.d", "mysql": "/etc/my.cnf.d"}
    cron_package = "cronie"
    configuration = ("/etc/php.ini", "/etc/php.d", "/etc/php-fpm.d")
    root_signs = ("var/lib/rpm", "usr/lib/sysimage/rpm")
    recorded = Recorded(
        here=(
            *("/etc/dnf", "/etc/dnf/dnf.conf", "/etc/php.ini", "/etc/php-*.ini", "/etc/php-fpm.conf", "/etc/opt/*"),
            *("/etc/opt/*/*", "/opt/*/*/*", "/usr/lib/sysimage", "/usr/lib/sysimage/rpm", "/usr/lib/sysimage/rpm/*"),
            *("/var/lib/rpm", "/var/lib/rpm/Packages*", "/var/lib/rpm/rpmdb.sqlite", "/var/cache/dnf"),
            *("/var/cache/libdnf5", "/usr/share/dnf5/repos.d", "/usr/share/dnf5/repos.d/*.repo", "/etc/distro.repos.d"),
            *("/etc/sysconfig/php*", "/run/php-fpm/*"),
            *("/etc/distro.repos.d/*.repo", "/opt/*/*/root/usr/bin/php*", "/opt/*/*/root/usr/sbin/php*"),
        ),
        below=(
            *("/etc/php.d", "/etc/php-zts.d", "/etc/php-fpm.d", "/etc/yum.repos.d", "/etc/dnf/modules.d"),
            *("/opt/*/*/root/etc", "/etc/opt"),
        ),
        extensions=("/usr/lib64/php", "/opt/*/*/root/usr/lib64/php", "/opt/*/*/root/usr/lib/php"),
    )
    read_by_php = ("/etc/php.d", "/etc/php.ini", "/etc/php-fpm.d", "/usr/lib64/php")

    def locale_packages(self, name: str) -> tuple[str, ...]:
        """Source: glibc's packages, one for each language."""
        return (f"glibc-langpack-{name.partition('_')[0].partition('.')[0]}",)

    def branch_of_offer(self, offer: Offer) -> str | None:
        return package_names.branch_of(offer)

    def extensions_in(self, offer: Offer, branch: str) -> set[str]:
        return package_names.extensions_in(offer, branch)

    def collection_of(self, offer: Offer) -> str:
        return package_names.collection_of(offer)

    def has_database(self, host: Host) -> bool:
        return any(host.stat(path) for path in DATABASES)

    def place(self, branch: str, sapi: Sapi) -> PhpPlace:
        service = {"fpm": "php-fpm", "apache2": self.web_service("apache2")}.get(sapi)
        return PhpPlace("/etc/php.ini", "/etc/php.d", "/etc/php-fpm.d", service)

    def extension_dir(self, api: str) -> str:
        return "/usr/lib64/php/modules"

    def order(self, first: str, second: str) -> int:
        return rpm_order(first, second)

    def install(self, packages: Sequence[str], *, again: bool = False) -> list[str]:
        return ["dnf", "reinstall" if again else "install", *packages]

    def uninstall(self, packages: Sequence[str]) -> list[str]:
        return ["dnf", "remove", *packages]

    def stream_query(self, stream: str) -> list[str]:
        """Source: dnf(8), ``module list``: a stream that is switched on is marked with ``[e]``."""
        name, _, of = stream.partition(":")
        asked = f"dnf -q module list --enabled {shlex.quote(name)} | grep -q -- {shlex.quote(f' {of} .*[[]e[]]')}"
        return ["sh", "-c", asked]

    def switch_stream(self, stream: str) -> list[str]:
        return ["dnf", "module", "switch-to", stream]

    def ansible_install(self, packages: Sequence[str]) -> tuple[str, dict[str, Any]]:
        return "dnf", {"install_weak_deps": False}

    def service_check(self, service: str) -> list[str]:
        known = {
            "php-fpm": ["/run/php-fpm/php-fpm.pid", "php-fpm", "-t"],
            "nginx": ["/run/nginx.pid", "nginx", "-t"],
            "httpd": ["/run/httpd/httpd.pid", "httpd", "-t"],
            "mariadb": ["/run/mariadb/mariadb.pid", "sh", "-c", MARIADB_TEST],
            "mysqld": ["/run/mysqld/mysqld.pid", "mysqld", "--validate-config"],
        }
        return known.get(service) or super().service_check(service)  # a branch in a place of its own has neither


PLATFORM = RedHat()
