"""The Debian family.  Source: the layout of Debian's packages of PHP, nginx and Apache."""

import re
from collections.abc import Sequence
from typing import Any

from fundamentum.hosts.base import Host
from fundamentum.platforms.base import Platform
from fundamentum.platforms.debian import dpkg


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
    packaged = carried_out = resolved_here = True
    refresh = "apt-get update"
    indexes = "Packages files"
    apache_additions = "/etc/apache2/conf-enabled"

    def has_database(self, host: Host) -> bool:
        return host.stat(dpkg.STATUS) is not None

    def switch_file(self, branch: str, extension: str) -> str | None:
        return f"/etc/php/{branch}/mods-available/{extension}.ini"

    def program(self, branch: str) -> str:
        return f"/usr/bin/php{branch}"

    def order(self, one: str, two: str) -> int:
        from debian.debian_support import version_compare  # noqa: PLC0415 — slow to import, and seldom needed

        try:
            return int(version_compare(one, two))
        except ValueError:  # no version of this family's
            return super().order(one, two)

    def install(self, packages: Sequence[str], *, again: bool = False) -> list[str]:
        return ["apt-get", "install", *(["--reinstall"] if again else []), "--no-install-recommends", *packages]

    def ansible_install(self, packages: Sequence[str]) -> tuple[str, dict[str, Any]]:
        return "apt", {"install_recommends": False}

    def service_check(self, service: str) -> list[str]:
        if match := re.fullmatch(r"php(\d+\.\d+)-fpm", service):
            return [f"/run/php/{service}.pid", f"php-fpm{match[1]}", "-t"]
        if service == "nginx":
            return ["/run/nginx.pid", "nginx", "-t"]
        if service == "apache2":
            return ["/run/apache2/apache2.pid", "apache2ctl", "configtest"]
        return super().service_check(service)


PLATFORM = Debian()
