"""What one kind of system tells; as it stands here, of a system about which nothing is known."""

import re
import shlex
from collections.abc import Mapping, Sequence
from typing import Any, ClassVar, Final, Literal

import msgspec

from fundamentum.catalog import security_ends
from fundamentum.hosts.base import Host
from fundamentum.model.packages import Offer, Relation
from fundamentum.model.php import Branch, Sapi
from fundamentum.model.recorded_paths import Recorded
from fundamentum.model.remark import Remark

PHP_FOLDERS: Final = ("/usr/lib/php", "/usr/lib64/php", "/opt/", "/usr/local/")
"""Where extension files lie; a package that owns one there is named with it."""


def too_old(branch: str, where: str) -> Remark:
    """What is said of a PHP that is recognised and not judged."""
    ends = security_ends(branch if branch != "5" else "5.6")
    since = f"; its fixes ended {ends}" if ends else "; its fixes ended long ago"
    return Remark("PHP branch", f"{where}: in the layout of its time, not judged{since}", branch)


class PhpPlace(msgspec.Struct, frozen=True):
    """Where the packages of a platform put the configuration of one way of running PHP."""

    ini_file: str
    scan_dir: str
    pool_dir: str
    service: str | None = None
    listen: str = ""
    """Where the packaged pool waits."""


def policy_texts(boolean: str) -> tuple[str, str]:
    """Where a boolean of SELinux stands: as it is now (``1 1`` is on), and those that differ from the policy's own."""
    return f"/sys/fs/selinux/booleans/{boolean}", "/var/lib/selinux/targeted/active/booleans.local"


MARIADB_TEST: Final = (
    "for server in mariadbd /usr/libexec/mariadbd; do "
    "! command -v $server >/dev/null || $server --help --verbose >/dev/null || exit 1; done"
)
"""Ends with an error where MariaDB is there and its option files hold what it does not know."""


class Platform:
    """One kind of system.  An entry sets what differs."""

    title: ClassVar[str] = "kind of system that this program does not know"
    last: ClassVar[bool] = False
    """Whether only that counts for it which no other platform has claimed."""
    os_name: ClassVar[str] = ""
    """What such systems are called, where they do not say so themselves."""
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
    script_language: ClassVar[Literal["", "sh", "powershell"]] = ""
    """The language of a plan's script; empty: none can be written."""
    resolved_here: ClassVar[bool] = False
    """Whether what comes along with packages is worked out from the indexes; the package manager decides otherwise."""
    makes_locales: ClassVar[bool] = False
    """Whether the locales of a list are made; where not, packages bring them."""
    system_folder: ClassVar[str] = ""
    """The directory of the system itself, which only a whole drive has; empty where every tree has it."""
    rights_by_name: ClassVar[bool] = False
    """Whether rights are those of names in access lists, not of owner, group and others."""
    refresh: ClassVar[str] = "its package manager's refresh"
    """The command that refreshes the package indexes."""
    indexes: ClassVar[str] = "indexes"
    """What an index of packages is called."""
    shows_a_visit: ClassVar[bool] = False
    """Whether what is known comes from a visitor's own request, so that a web server must have handed it to PHP."""
    socket_dir: ClassVar[str] = "/run/php"
    configuration: ClassVar[tuple[str, ...]] = ()
    """Files and directories of PHP's configuration."""
    read_by_php: ClassVar[tuple[str, ...]] = ("/etc/php", "/usr/lib/php")
    """Where what a running PHP has read lies."""
    unseen: ClassVar[str | None] = None
    """What to do about an extension that is not seen, where nothing tells whether its file is there."""

    root_signs: ClassVar[tuple[str, ...]] = ()
    """Paths by which a directory is known to be the root of such a system."""
    recorded: ClassVar[Recorded] = Recorded()
    cron_package: ClassVar[str] = "cron"
    """The package that runs commands at set times."""
    switches_by_name: ClassVar[bool] = False
    """Whether an extension whose file is there is switched on by a command and its name, not by a line."""
    modules_by_name: ClassVar[bool] = False
    """Whether a web server's modules are switched on by name, so that it can be told which are on."""
    no_packages: ClassVar[str] = "package database: none that this program can read"
    """Why nothing is known of packages, where nothing reads them."""
    web_services: ClassVar[Mapping[str, str]] = {}
    """Web server → its service, where that has another name."""
    web_additions: ClassVar[Mapping[str, str]] = {}
    """Web server → the directory of files that its main configuration reads."""
    web_sites: ClassVar[Mapping[str, tuple[str, str]]] = {}
    """Web server → the directory for files of sites; and that of links to those which count, if only these do."""
    web_folders: ClassVar[Mapping[str, str]] = {}
    """Web server → the directory for files of sites, where the one for links is not there: other packages of it."""
    firewall_off: ClassVar[tuple[str, str]] = ("", "")
    """A file of the firewall's, and the line in it that tells that it is switched off."""
    socket_users: ClassVar[str] = ""
    """The users, with commas, who may use a new pool's socket beside the one to whom it belongs."""
    services_enabled: ClassVar[bool] = True
    """Whether packages let their services start at boot; where not, a plan does."""
    database_services: ClassVar[Mapping[str, str]] = {}
    """Database server → its service, where a package leaves it ready to be used on the server itself."""
    release_id: ClassVar[str] = ""
    """The distribution whose releases a system of this family is compared with, as ``os-release`` names it."""
    other_installers: ClassVar[tuple[str, ...]] = ()
    """Commands beside its own with which guides install packages of this family."""
    other_services: ClassVar[frozenset[str]] = frozenset()
    """What services are called here that applications speak to, beside databases."""
    database_additions: ClassVar[Mapping[str, str]] = {}
    """Database server → the directory of files that a fresh installation of it reads last; ``{version}`` is that."""
    network_database_boolean: ClassVar[str] = "httpd_can_network_connect_db"
    """The SELinux boolean that lets web servers and PHP reach databases over the network.  Source: httpd_selinux(8)."""
    writable_label: ClassVar[str] = "httpd_sys_rw_content_t"
    writable_labels: ClassVar[frozenset[str]] = frozenset(
        "httpd_sys_rw_content_t public_content_rw_t httpd_cache_t httpd_log_t httpd_var_lib_t httpd_var_run_t "
        "httpd_tmp_t".split()
    )
    """SELinux types that a web server's processes may write to, and the usual one.  Source: httpd_selinux(8)."""
    content_label: ClassVar[str] = "httpd_sys_content_t"
    refused_labels: ClassVar[frozenset[str]] = frozenset(
        "admin_home_t default_t home_root_t mnt_t removable_t root_t src_t tmp_t unlabeled_t user_home_dir_t "
        "user_tmp_t var_t var_tmp_t".split()
    )
    read_labels: ClassVar[frozenset[str]] = frozenset(
        "bin_t etc_t iso9660_t lib_t public_content_t public_content_rw_t usr_t var_lib_t".split()
    )
    """SELinux types of files that they may not read, and may; those of web servers' own begin with ``httpd_``.
    Source: the reference policy, asked with ``sesearch -A -s httpd_t -c file -p read``."""
    switched_labels: ClassVar[Mapping[str, str]] = {
        "user_home_t": "httpd_read_user_content",
        "nfs_t": "httpd_use_nfs",
        "cifs_t": "httpd_use_cifs",
        "fusefs_t": "httpd_use_fusefs",
    }
    """Those that they may read if a boolean is on.  Source: the same."""

    @property
    def carried_out(self) -> bool:
        """Whether a plan can be written as a shell script and as a playbook."""
        return self.script_language == "sh"

    def is_certain(self, host: Host) -> bool:
        """Whether the way in which the server is read already tells that it is such a system."""
        return False

    def web_service(self, server: str) -> str:
        """The service of a web server."""
        return self.web_services.get(server, server)

    def sapi_of(self, package: str) -> Sapi | None:
        """The way of running PHP that a package brings, of whatever branch; None if it brings none."""
        for sapi, pattern in self.sapi_packages.items():
            if re.fullmatch(re.escape(pattern).replace(re.escape("{branch}"), r"[0-9.]*"), package):
                return sapi
        return None

    def branch_of(self, package: str) -> str | None:
        """The branch that a package brings a way of running PHP for, as its name tells; None if it does not."""
        for pattern in self.sapi_packages.values():
            match = re.fullmatch(re.escape(pattern).replace(re.escape("{branch}"), r"([0-9]+\.[0-9]+)"), package)
            if match and match.groups():
                return match[1]
        return None

    def branch_of_offer(self, offer: Offer) -> str | None:
        """The branch of PHP that a package on offer belongs to, as its name and relations tell."""
        return None

    def extensions_in(self, offer: Offer, branch: str) -> set[str]:
        """The extensions that a package on offer brings to a branch."""
        return set()

    def collection_of(self, offer: Offer) -> str:
        """The name of the PHP in a place of its own that a package belongs to; empty for the system's own."""
        return ""

    def names_branch(self, package: str, branch: str) -> bool:
        """Whether a package has the branch in its name, so that it is the first choice for it."""
        return False

    def stream_query(self, stream: str) -> list[str]:
        """A command that ends with 0 if a module stream is switched on."""
        return ["false"]

    def relations(self, field: str) -> list[list[Relation]]:
        """A field of a package that names others: groups that must all hold, each with its alternatives."""
        return []

    def has_database(self, host: Host) -> bool:
        """Whether the package database of such systems is there."""
        return False

    def place(self, branch: str, sapi: Sapi) -> PhpPlace:
        """Where packages would put the configuration."""
        folder = f"/etc/php/{branch}"
        service = {"fpm": f"php{branch}-fpm", "apache2": self.web_service("apache2")}.get(sapi)
        listen = f"{self.socket_dir}/php{branch}-fpm.sock"
        return PhpPlace(f"{folder}/{sapi}/php.ini", f"{folder}/{sapi}/conf.d", f"{folder}/fpm/pool.d", service, listen)

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

    def locale_packages(self, name: str) -> tuple[str, ...]:
        """The packages that a locale takes; none where nothing is known of that."""
        return ()

    def locale_commands(self, name: str) -> tuple[list[str], list[str], list[str]]:
        """Commands: whether a locale is there, what makes it, what takes it back; asked where it is made by a list."""
        raise NotImplementedError

    def switch_on(self, branch: str, sapi: str, switch: str) -> list[str]:
        """The command that switches an extension on by name; asked only where :attr:`switches_by_name` holds."""
        raise NotImplementedError

    def switch_off(self, branch: str, sapi: str, switch: str) -> list[str]:
        """The command that takes :meth:`switch_on` back."""
        raise NotImplementedError

    def is_switched_on(self, branch: str, sapi: str, switch: str) -> list[str]:
        """The command that ends with 0 if an extension is switched on by name."""
        raise NotImplementedError

    def program(self, branch: str) -> str:
        """The PHP of the command line."""
        return "/usr/bin/php"

    def upgrades_by_source(self, present: Mapping[str, str]) -> bool:
        """Whether what is built from one source is brought to one version.  ``present``: package → version there."""
        return False

    def order(self, first: str, second: str) -> int:
        """Below, at or above zero, as the package manager orders two versions."""
        return (first > second) - (first < second)

    def fits(self, version: str, wanted: Relation) -> bool:
        """Whether a version is one that a relation names.

        Source: Debian policy, 7.1; ``<`` and ``>`` are old spellings of ``<=`` and ``>=``.
        """
        if wanted.version is None:
            return True
        order = self.order(version, wanted.version)
        fits = {"<<": order < 0, "=": order == 0, ">>": order > 0}
        return fits.get(wanted.operator or "=", order <= 0 if wanted.operator in ("<=", "<") else order >= 0)

    def install(self, packages: Sequence[str], *, again: bool = False) -> list[str]:
        """The command that installs packages, or installs them again."""
        return ["install", *packages]

    def uninstall(self, packages: Sequence[str]) -> list[str]:
        """The command that takes packages away that nothing needs."""
        return ["remove", *packages]

    def switch_stream(self, stream: str) -> list[str]:
        """The command that switches a module stream on."""
        return ["install", stream]

    def ansible_install(self, packages: Sequence[str]) -> tuple[str, dict[str, Any]]:
        """Ansible's module for packages, and its options beside their names."""
        return "package", {}

    def command_line(self, words: Sequence[str]) -> str:
        """A command as a person types it."""
        return shlex.join(words)

    def copying(self, path: str, to: str) -> list[str]:
        """The command that copies a file."""
        return ["cp", path, to]

    def removing(self, path: str) -> list[str]:
        """The command that takes a file away."""
        return ["rm", path]

    def extension_from(self, name: str, php: Branch, version: str) -> str:
        """Where an extension's file comes from that no package brings; empty where that is not known."""
        return ""

    def php_from(self, branch: str, thread_safe: bool, processor: str) -> str:
        """Where a PHP comes from that no package brings; empty where that is not known."""
        return ""

    def making_directory(self, path: str) -> list[str]:
        """The command that makes a directory."""
        return ["mkdir", path]

    def grant(self, path: str, who: str, letters: str) -> list[str]:
        """The command that lets a name do that in a directory and below; asked where :attr:`rights_by_name` holds."""
        raise NotImplementedError

    def revoke(self, path: str, who: str) -> list[str]:
        """The command that takes :meth:`grant` back."""
        raise NotImplementedError

    def asking_rights(self, path: str) -> list[str]:
        """The command that shows who may do what there."""
        return ["ls", "-ld", path]

    def service(self, verb: str, service: str) -> list[str]:
        """The command that starts, restarts or reloads a service, or lets it start with the system (``enable``)."""
        return ["systemctl", verb, service]

    def knows_service(self, name: str) -> bool:
        """Whether a service is called so here, of the names that it has on different systems."""
        return name in self.other_services

    def service_check(self, service: str) -> list[str]:
        """The file that holds a service's process number, and the command with which it tests its configuration."""
        return [f"/run/{service}.pid", "true"]
