"""What a recorder takes along: told by each platform and each web server, and in the script."""

import pytest

from fundamentum import webservers
from fundamentum.hosts import processes
from fundamentum.platforms import names, platform
from fundamentum.survey.recorder import script
from fundamentum.webservers import webserver

PLATFORMS = {
    "debian": (
        "/usr/lib/php /etc/apt /etc/apt/preferences /etc/apt/apt.conf /var/lib/dpkg /var/lib/dpkg/status /var/lib/dpkg/info /var/lib/dpkg/info/*php*.list /var/lib/apt /var/lib/apt/lists /var/lib/apt/lists/*Packages* /var/lib/apt/lists/*Release /usr/lib/cgi-bin /usr/lib/cgi-bin/php* /etc/php5 /etc/php5/* /etc/alternatives /etc/alternatives/php* /etc/default/php* /run/php/*",
        "/etc/php /etc/apt/preferences.d /etc/apt/apt.conf.d",
        "/usr/lib/php",
    ),
    "redhat": (
        "/etc/dnf /etc/dnf/dnf.conf /etc/php.ini /etc/php-*.ini /etc/php-fpm.conf /etc/opt/* /etc/opt/*/* /opt/*/*/* /usr/lib/sysimage /usr/lib/sysimage/rpm /usr/lib/sysimage/rpm/* /var/lib/rpm /var/lib/rpm/Packages* /var/lib/rpm/rpmdb.sqlite /var/cache/dnf /var/cache/libdnf5 /usr/share/dnf5/repos.d /usr/share/dnf5/repos.d/*.repo /etc/distro.repos.d /etc/sysconfig/php* /run/php-fpm/* /etc/distro.repos.d/*.repo /opt/*/*/root/usr/bin/php* /opt/*/*/root/usr/sbin/php*",
        "/etc/php.d /etc/php-zts.d /etc/php-fpm.d /etc/yum.repos.d /etc/dnf/modules.d /opt/*/*/root/etc /etc/opt",
        "/usr/lib64/php /opt/*/*/root/usr/lib64/php /opt/*/*/root/usr/lib/php",
    ),
    "source_build": (
        "/usr/local/* /usr/local/bin/php* /usr/local/sbin/php* /usr/local/*/bin/php* /usr/local/*/sbin/php* /opt/* /opt/*/* /opt/*/bin/php* /opt/*/sbin/php*",
        "",
        "",
    ),
}  # files and directories; directories with all in them; directories of extension files
WEB_SERVERS = {
    "apache2": (
        "/usr/lib/apache2 /usr/lib/apache2/modules /usr/lib/apache2/modules/libphp* /usr/lib*/httpd /usr/lib*/httpd/modules /usr/lib*/httpd/modules/libphp* /usr/local/apache2 /etc/sysconfig/httpd /run/apache2/apache2.pid /run/httpd/httpd.pid /usr/local/apache2/logs/httpd.pid",
        "",
        "",
    ),
    "nginx": (
        "/usr/local/etc /usr/local/nginx /var/lib/nginx/body /var/lib/nginx/tmp/client_body",
        "",
        "",
    ),
}


@pytest.mark.parametrize("name", names())
def test_what_a_platform_wants(name: str) -> None:
    recorded = platform(name).recorded
    shown = tuple(" ".join(paths) for paths in (recorded.here, recorded.below, recorded.extensions))
    assert shown == PLATFORMS.get(name, ("", "", ""))
    assert all(path in script() for path in (*recorded.here, *recorded.below, *recorded.extensions))


@pytest.mark.parametrize("name", webservers.names())
def test_what_a_web_server_wants(name: str) -> None:
    recorded, of = webserver(name).recorded, webserver(name)
    shown = tuple(" ".join(paths) for paths in (recorded.here, recorded.below, recorded.extensions))
    assert shown == WEB_SERVERS.get(name, ("", "", ""))
    assert all(
        path in script() for path in (*recorded.here, *of.configuration, *of.shared_roots, *of.bodies, of.process)
    )


def test_directories_by_which_a_root_is_known_and_what_is_read() -> None:
    signs = {name: platform(name).root_signs for name in names() if platform(name).root_signs}
    assert signs == {
        "debian": ("var/lib/dpkg/status", "etc/php"),
        "redhat": ("var/lib/rpm", "usr/lib/sysimage/rpm"),
        "source_build": ("usr/local/bin/php",),
    }
    configuration = {
        name: webserver(name).configuration for name in webservers.names() if webserver(name).configuration
    }
    assert configuration == {
        "apache2": ("/etc/apache2", "/etc/httpd", "/usr/local/apache2/conf"),
        "nginx": ("/etc/nginx", "/usr/local/nginx/conf", "/usr/local/etc/nginx"),
    }
    assert platform("debian").configuration == platform("unknown").read_by_php[:1] == ("/etc/php",)
    assert platform("redhat").configuration == ("/etc/php.ini", "/etc/php.d", "/etc/php-fpm.d")
    assert [webserver(name).read_when_started for name in ("apache2", "nginx")] == [
        ("/etc/apache2", "/etc/httpd"),
        ("/etc/nginx",),
    ]
    assert [webserver(name).shared_roots for name in ("apache2", "nginx")] == [
        ("/usr/local/apache2",),
        ("/usr/share/nginx", "/usr/local/nginx"),
    ]
    assert processes.MANAGER in script()
