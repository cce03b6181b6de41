"""What one kind of system tells; as it stands here, of a system about which nothing is known."""

import inspect
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, ClassVar

import msgspec

from fundamentum.hosts.base import Host
from fundamentum.model.php import Sapi


class PhpPlace(msgspec.Struct, frozen=True):
    """Where the packages of a platform put the configuration of one way of running PHP."""

    ini_file: str
    scan_dir: str
    pool_dir: str
    service: str | None = None


class Platform:
    """One kind of system.  An entry sets what differs."""

    title: ClassVar[str] = "kind of system that this program does not know"
    ids: ClassVar[frozenset[str]] = frozenset()
    """What such systems call themselves, or say to be like (``ID`` and ``ID_LIKE``, os-release(5))."""
    marks: ClassVar[tuple[str, ...]] = ()
    """Paths of which one is there on every such system, and on no other."""

    php_user: ClassVar[str | None] = None
    """As whom PHP works behind a web server, where no configuration says otherwise."""
    pool_user: ClassVar[str] = "www-data"
    """As whom a new pool is set up."""
    sapi_packages: ClassVar[Mapping[Sapi, str]] = {}
    """The package that makes PHP run in a way; ``{branch}`` stands for the branch."""
    one_branch: ClassVar[bool] = False
    """Whether the system's own PHP comes in one branch at a time."""
    packaged: ClassVar[bool] = False
    """Whether a package database is read, so that what can be installed is known or can be."""
    carried_out: ClassVar[bool] = False
    """Whether a plan can be written as a script and as a playbook."""
    resolved_here: ClassVar[bool] = False
    """Whether what comes along with packages is worked out from the indexes; the package manager decides otherwise."""
    rights: ClassVar[bool] = True
    """Whether rights of files are judged."""
    refresh: ClassVar[str] = "its package manager's refresh"
    """The command that refreshes the package indexes."""
    indexes: ClassVar[str] = "indexes"
    """What an index of packages is called."""
    socket_dir: ClassVar[str] = "/run/php"
    apache_service: ClassVar[str] = "apache2"
    apache_additions: ClassVar[str | None] = None
    """The directory of files that Apache's main server reads."""
    read_by_php: ClassVar[tuple[str, ...]] = ("/etc/php", "/usr/lib/php")
    """Where what a running PHP has read lies."""
    unseen: ClassVar[str | None] = None
    """What to do about an extension that is not seen, where nothing tells whether its file is there."""

    def has_database(self, host: Host) -> bool:
        """Whether the package database of such systems is there."""
        return False

    def shell(self) -> str:
        """What a script calls to ask for packages and to install them: the file beside the entry, if it has one."""
        file = Path(inspect.getfile(type(self)))
        beside = file.with_name("script.sh") if file.stem == "__init__" else file.with_suffix(".sh")
        return "\n" + beside.read_text("utf-8") if beside.is_file() else ""

    def place(self, branch: str, sapi: Sapi) -> PhpPlace:
        """Where packages would put the configuration."""
        folder = f"/etc/php/{branch}"
        service = {"fpm": f"php{branch}-fpm", "apache2": self.apache_service}.get(sapi)
        return PhpPlace(f"{folder}/{sapi}/php.ini", f"{folder}/{sapi}/conf.d", f"{folder}/fpm/pool.d", service)

    def package_of(self, sapi: Sapi, branch: str) -> str | None:
        """The package that makes a branch run in a way."""
        pattern = self.sapi_packages.get(sapi)
        return pattern.format(branch=branch) if pattern else None

    def extension_dir(self, api: str) -> str:
        """The directory of extension files, by the number of the module API."""
        return f"/usr/lib/php/{api}"

    def switch_file(self, branch: str, extension: str) -> str | None:
        """The ini file by which an extension is switched on by name, where that is done so."""
        return None

    def switch_on(self, branch: str, sapi: str, switch: str) -> list[str]:
        """The command that switches an extension on by name."""
        return ["phpenmod", "-v", branch, "-s", sapi, switch]

    def program(self, branch: str) -> str:
        """The PHP of the command line."""
        return "/usr/bin/php"

    def order(self, one: str, two: str) -> int:
        """Below, at or above zero, as the package manager orders two versions."""
        return (one > two) - (one < two)

    def install(self, packages: Sequence[str], *, again: bool = False) -> list[str]:
        """The command that installs packages, or installs them again."""
        return ["install", *packages]

    def switch_stream(self, stream: str) -> list[str]:
        """The command that switches a module stream on."""
        return ["install", stream]

    def ansible_install(self, packages: Sequence[str]) -> tuple[str, dict[str, Any]]:
        """Ansible's module for packages, and its options beside their names."""
        return "package", {}

    def service_check(self, service: str) -> list[str]:
        """The file that holds a service's process number, and the command with which it tests its configuration."""
        return [f"/run/{service}.pid", "true"]
