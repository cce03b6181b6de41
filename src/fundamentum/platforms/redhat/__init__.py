"""The RHEL family.  Source: the layout of its packages of PHP, nginx and Apache, dnf(8)."""

from collections.abc import Sequence
from typing import Any

from fundamentum.hosts.base import Host
from fundamentum.model.php import Sapi
from fundamentum.platforms.base import PhpPlace, Platform
from fundamentum.platforms.redhat import rpm
from fundamentum.platforms.redhat.rpm_version import rpm_order


class RedHat(Platform):
    """RHEL and what calls itself like it."""

    title = "RHEL family"
    ids = frozenset({"rhel", "fedora", "centos"})
    marks = ("/etc/redhat-release", "/etc/dnf", "/etc/yum.repos.d")
    php_user = pool_user = "apache"
    sapi_packages = {"cli": "php-cli", "fpm": "php-fpm", "apache2": "php", "cgi": "php-cli"}
    one_branch = packaged = carried_out = True
    refresh = "dnf makecache"
    indexes = "repodata directories"
    socket_dir = "/run/php-fpm"
    apache_service = "httpd"
    apache_additions = "/etc/httpd/conf.d"
    read_by_php = ("/etc/php.d", "/etc/php.ini", "/etc/php-fpm.d", "/usr/lib64/php")

    def has_database(self, host: Host) -> bool:
        return rpm.database(host) is not None

    def place(self, branch: str, sapi: Sapi) -> PhpPlace:
        service = {"fpm": "php-fpm", "apache2": self.apache_service}.get(sapi)
        return PhpPlace("/etc/php.ini", "/etc/php.d", "/etc/php-fpm.d", service)

    def extension_dir(self, api: str) -> str:
        return "/usr/lib64/php/modules"

    def order(self, one: str, two: str) -> int:
        return rpm_order(one, two)

    def install(self, packages: Sequence[str], *, again: bool = False) -> list[str]:
        return ["dnf", "reinstall" if again else "install", *packages]

    def switch_stream(self, stream: str) -> list[str]:
        return ["dnf", "module", "switch-to", stream]

    def ansible_install(self, packages: Sequence[str]) -> tuple[str, dict[str, Any]]:
        return "dnf", {"install_weak_deps": False}

    def service_check(self, service: str) -> list[str]:
        known = {
            "php-fpm": ["/run/php-fpm/php-fpm.pid", "php-fpm", "-t"],
            "nginx": ["/run/nginx.pid", "nginx", "-t"],
            "httpd": ["/run/httpd/httpd.pid", "httpd", "-t"],
        }
        return known.get(service) or super().service_check(service)  # a branch in a place of its own has neither


PLATFORM = RedHat()
