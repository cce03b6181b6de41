"""Real systems for the tests that are marked ``real``."""

import os
import shutil
from collections.abc import Iterator

import pytest
from debian_root import STORE, Root, base

REAL = os.environ.get("FUNDAMENTUM_REAL") == "1"


def missing() -> str | None:
    """Why real systems cannot be made here."""
    if os.geteuid() != 0:
        return "needs root for chroot"
    return None if shutil.which("debootstrap") else "debootstrap is not installed"


@pytest.fixture(scope="session", autouse=True)
def _real_system() -> None:
    reason = missing()
    if reason and REAL:
        pytest.fail(f"FUNDAMENTUM_REAL=1 is set, but {reason}")
    if reason or not REAL:
        pytest.skip(reason or "set FUNDAMENTUM_REAL=1 to build real Debian roots (.ci/run does)")


@pytest.fixture(scope="session")
def bookworm() -> Iterator[Root]:
    """PHP 8.2 with every way of running it, some extensions, and traps of all kinds in its configuration."""
    root = base("bookworm").copy(STORE / "test-bookworm")
    root.install(
        "php8.2-cli",
        "php8.2-fpm",
        "php8.2-cgi",
        "libapache2-mod-php8.2",
        "libfcgi-bin",
        "php8.2-xml",
        "php8.2-mysql",
        "php8.2-gd",
        "php8.2-intl",
        "php8.2-mbstring",
        "php8.2-sqlite3",
        "php8.2-zip",
        "php8.2-apcu",
    )
    root.run("phpdismod", "-v", "8.2", "-s", "fpm", "gd")
    root.run("phpdismod", "-v", "8.2", "-s", "cli", "pdo")  # the drivers that need it then fail to load
    root.write("/etc/php/8.2/fpm/conf.d/50-observatory.ini", TRAPS)
    root.write("/etc/php/8.2/fpm/conf.d/60-later.ini", "upload_max_filesize = 64M\nsession.gc_maxlifetime=7200")
    root.write("/etc/php/8.2/apache2/conf.d/50-observatory.ini", TRAPS)
    root.write("/etc/php/8.2/cgi/conf.d/50-observatory.ini", TRAPS)
    root.write("/etc/php/8.2/cli/conf.d/50-observatory.ini", TRAPS)
    root.write("/etc/php/8.2/fpm/pool.d/plates.conf", POOL)
    root.write(
        "/etc/php/8.2/fpm/pool.d/zz-plates.conf",
        "[plates]\nphp_admin_value[memory_limit] = 640M\nphp_value[max_input_time] = 90\n",
    )  # comes second, and loses
    yield root
    shutil.rmtree(root.path, ignore_errors=True)


TRAPS = """\
; memory_limit = 1G
memory_limit = 200M ; a comment behind it
upload_max_filesize = 200
post_max_size = "16M"
error_reporting = E_ALL & ~E_DEPRECATED
display_errors = Off
html_errors = yes
max_execution_time = 77
output_buffering = 8192
register_argc_argv = On
[nightlog]
default_charset = 'ISO-8859-1'
session.auto_start = none
date.timezone = Europe/Vienna
include_path = ".:/usr/share/php:/srv/nightlog"
user_agent = "nightlog ${nothing_here}x"
[PATH=/srv/platevault]
memory_limit = 900M
"""

POOL = """\
[plates]
user = www-data
group = www-data
listen = /run/php/plates.sock
pm = static
pm.max_children = 1
php_admin_value[memory_limit] = 512M
php_value[max_input_vars] = 9000
php_flag[display_errors] = on
php_admin_flag[log_errors] = off
php_value[memory_limit] = 100M
php_admin_value[open_basedir] = /srv/$pool:/tmp
php_value[max_input_time] = 30
"""
