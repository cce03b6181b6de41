"""What each platform says of itself."""

from pathlib import Path

import pytest

from fundamentum.hosts.windows_directory import WindowsHost
from fundamentum.platforms import families, platform
from fundamentum.survey.probes import distribution
from tests.small_root import write

PLACES = [  # platform, SAPI, php.ini, directory of additions, directory of pools, service
    ("debian", "fpm", "/etc/php/8.2/fpm/php.ini", "/etc/php/8.2/fpm/conf.d", "/etc/php/8.2/fpm/pool.d", "php8.2-fpm"),
    (
        "debian",
        "apache2",
        "/etc/php/8.2/apache2/php.ini",
        "/etc/php/8.2/apache2/conf.d",
        "/etc/php/8.2/fpm/pool.d",
        "apache2",
    ),
    ("debian", "cli", "/etc/php/8.2/cli/php.ini", "/etc/php/8.2/cli/conf.d", "/etc/php/8.2/fpm/pool.d", None),
    ("redhat", "fpm", "/etc/php.ini", "/etc/php.d", "/etc/php-fpm.d", "php-fpm"),
    ("redhat", "apache2", "/etc/php.ini", "/etc/php.d", "/etc/php-fpm.d", "httpd"),
]


@pytest.mark.parametrize(("name", "sapi", "ini", "scan", "pools", "service"), PLACES)
def test_places(name: str, sapi: str, ini: str, scan: str, pools: str, service: str | None) -> None:
    place = platform(name).place("8.2", sapi)  # type: ignore[arg-type]
    assert (place.ini_file, place.scan_dir, place.pool_dir, place.service) == (ini, scan, pools, service)


PACKAGES = [  # platform, package, SAPI it brings, its branch
    ("debian", "php8.2-fpm", "fpm", "8.2"), ("debian", "libapache2-mod-php8.4", "apache2", "8.4"), ("debian", "php8.2-cgi", "cgi", "8.2"),
    ("debian", "libapache2-mod-php", "apache2", None), ("debian", "php8.2-gd", None, None), ("debian", "php8.2-cli", "cli", "8.2"), ("debian", "php-fpm", "fpm", None),
    ("redhat", "php-fpm", "fpm", None), ("redhat", "php", "apache2", None), ("redhat", "php-cli", "cli", None), ("redhat", "php-gd", None, None), ("unknown", "php8.2-fpm", None, None),
]  # fmt: skip


@pytest.mark.parametrize(("name", "package", "sapi", "branch"), PACKAGES)
def test_packages(name: str, package: str, sapi: str | None, branch: str | None) -> None:
    assert (platform(name).sapi_of(package), platform(name).branch_of(package)) == (sapi, branch)
    if branch and sapi:
        assert platform(name).package_of(sapi, branch) == package  # type: ignore[arg-type]


CHECKS = [  # platform, service, pid file, test of its configuration
    ("debian", "php8.4-fpm", "/run/php/php8.4-fpm.pid", "php-fpm8.4 -t"), ("debian", "nginx", "/run/nginx.pid", "nginx -t"),
    ("debian", "apache2", "/run/apache2/apache2.pid", "apache2ctl configtest"), ("debian", "other", "/run/other.pid", "true"),
    ("redhat", "php-fpm", "/run/php-fpm/php-fpm.pid", "php-fpm -t"), ("redhat", "nginx", "/run/nginx.pid", "nginx -t"),
    ("redhat", "httpd", "/run/httpd/httpd.pid", "httpd -t"), ("redhat", "php82-php-fpm", "/run/php82-php-fpm.pid", "true"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "service", "pid", "test"), CHECKS)
def test_services(name: str, service: str, pid: str, test: str) -> None:
    assert platform(name).service_check(service) == [pid, *test.split()]
    assert platform(name).service("reload", service) == ["systemctl", "reload", service]


def test_users_sockets_and_words() -> None:
    debian, redhat, unknown, windows = (platform(name) for name in ("debian", "redhat", "unknown", "windows"))
    assert [(family.php_user, family.pool_user) for family in (debian, redhat, unknown)] == [
        ("www-data", "www-data"),
        ("apache", "apache"),
        (None, "www-data"),
    ]
    assert [family.socket_dir for family in (debian, redhat)] == ["/run/php", "/run/php-fpm"]
    assert [family.refresh for family in (debian, redhat, unknown)] == [
        "apt-get update",
        "dnf makecache",
        "its package manager's refresh",
    ]
    assert [family.indexes for family in (debian, redhat)] == ["Packages files", "repodata directories"]
    assert [
        (family.packaged, family.carried_out, family.resolved_here, family.one_branch)
        for family in (debian, redhat, unknown)
    ] == [(True, True, True, False), (True, True, False, True), (False, False, False, False)]
    assert [family.web_service("apache2") for family in (debian, redhat)] == ["apache2", "httpd"]
    assert [family.web_additions.get("apache2") for family in (debian, redhat, unknown)] == [
        "/etc/apache2/conf-enabled",
        "/etc/httpd/conf.d",
        None,
    ]
    assert [
        (family.modules_by_name, family.switches_by_name, family.rights_by_name) for family in (debian, redhat, windows)
    ] == [
        (True, True, False),
        (False, False, False),
        (False, False, True),
    ]
    assert [family.cron_package for family in (debian, redhat)] == ["cron", "cronie"]
    assert [family.extension_dir("20220829") for family in (debian, redhat)] == [
        "/usr/lib/php/20220829",
        "/usr/lib64/php/modules",
    ]
    assert [family.program("8.2") for family in (debian, redhat)] == ["/usr/bin/php8.2", "/usr/bin/php"]
    assert debian.switch_on("8.2", "fpm", "gd") == ["phpenmod", "-v", "8.2", "-s", "fpm", "gd"]
    assert [family.switch_file("8.2", "gd") for family in (debian, redhat)] == [
        "/etc/php/8.2/mods-available/gd.ini",
        None,
    ]
    assert redhat.switch_stream("php:8.2") == ["dnf", "module", "switch-to", "php:8.2"]
    assert "--enabled php" in redhat.stream_query("php:8.2")[-1] and debian.stream_query("x") == ["false"]
    assert [family.ansible_install(["x"]) for family in (debian, redhat, unknown)] == [
        ("apt", {"install_recommends": False}),
        ("dnf", {"install_weak_deps": False}),
        ("package", {}),
    ]
    assert families() == "Debian family and RHEL family"
    with pytest.raises(NotImplementedError):
        unknown.switch_on("8.2", "fpm", "gd")


def test_a_windows_root_is_called_so(tmp_path: Path) -> None:
    write(tmp_path, {"PHP/php8.dll": b"MZ", "PHP/php.exe": b"MZ"})
    system, remarks = distribution.probe(WindowsHost(tmp_path, "x"))
    assert (system.family, system.id, system.name, remarks) == ("windows", "windows", "Windows", [])


ORDERS = [
    ("debian", "1.0~rc1", "1.0", -1),
    ("debian", "1:1", "2", 1),
    ("debian", "odd version", "1", 1),
    ("redhat", "1.10-1", "1.9-1", 1),
    ("unknown", "2", "10", 1),
]


@pytest.mark.parametrize(("name", "one", "two", "order"), ORDERS)
def test_the_order_of_versions(name: str, one: str, two: str, order: int) -> None:
    found = platform(name).order(one, two)
    assert (found > 0) - (found < 0) == order


def test_relations_are_read_where_they_are_in_the_index() -> None:
    ((first, second), (third,)) = platform("debian").relations("a (>= 1) | b, c:any")
    assert [(relation.name, relation.operator, relation.version) for relation in (first, second, third)] == [
        ("a", ">=", "1"),
        ("b", None, None),
        ("c", None, None),
    ]
    assert platform("redhat").relations("a, b") == []
