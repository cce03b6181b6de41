"""Real systems for the tests that are marked ``real``."""

import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

import pytest
from debian_root import BRANCHES, Root, made_once, spare, with_php

from .twin import make_twin, serving

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


class Server(NamedTuple):
    """A root with one branch of PHP, every way of running it, and traps of all kinds in its configuration."""

    root: Root
    branch: str


def _furnished(root: Root, branch: str) -> None:
    apcu = "php-apcu" if branch.startswith("7") else f"php{branch}-apcu"  # tied to its branch by phpapi-* alone
    suffixes = ("mysql", "gd", "intl", "sqlite3", "zip")
    root.install(*(f"php{branch}-{suffix}" for suffix in suffixes), f"libapache2-mod-php{branch}", apcu, "libfcgi-bin")
    root.run("phpdismod", "-v", branch, "-s", "fpm", "gd")
    root.run("phpdismod", "-v", branch, "-s", "cli", "pdo")  # the drivers that need it then fail to load
    folder = f"/etc/php/{branch}"
    for sapi in ("fpm", "apache2", "cgi", "cli"):
        root.write(f"{folder}/{sapi}/conf.d/50-observatory.ini", TRAPS)
    root.write(f"{folder}/fpm/conf.d/60-later.ini", "upload_max_filesize = 64M\nsession.gc_maxlifetime=7200")
    root.write(f"{folder}/fpm/pool.d/plates.conf", POOL)
    # Comes second, and loses.
    late = "[plates]\nphp_admin_value[memory_limit] = 640M\nphp_value[max_input_time] = 90\n"
    root.write(f"{folder}/fpm/pool.d/zz-plates.conf", late)


@contextmanager
def _server(release: str, folder: Path) -> Iterator[Server]:
    branch = BRANCHES[release]
    made = made_once(f"furnished-{release}", lambda: with_php(release), lambda root: _furnished(root, branch))
    with made.layer(folder) as root:
        yield Server(root, branch)


@pytest.fixture(scope="session", params=list(BRANCHES))
def server(request: pytest.FixtureRequest) -> Iterator[Server]:
    """One server of each release, in turn."""
    with _server(request.param, spare(f"server-{request.param}")) as made:
        yield made


@pytest.fixture(scope="module")
def bookworm() -> Iterator[Root]:
    """The 8.2 server alone, for rules that are asked of one PHP."""
    with _server("bookworm", spare("rules")) as made:
        yield made.root


@pytest.fixture(scope="session")
def twin() -> Iterator[Root]:
    """Two branches side by side behind nginx and Apache, all of it running."""
    root = make_twin()
    with serving(root):
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
