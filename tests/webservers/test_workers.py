"""How long Apache waits for what it passes requests to: which line says so, as real servers were asked."""

from pathlib import Path

import pytest

from tests.small_root import look, small_root

SOCKET = "unix:/run/php/php8.2-fpm.sock"
HANDLER = f'<FilesMatch "\\.php$">\nSetHandler "proxy:{SOCKET}|fcgi://h"\n</FilesMatch>\n'
PATTERN = f'ProxyPassMatch "^/(.*\\.php)$" "{SOCKET}|fcgi://h/srv/a/$1"'
PASS = f'ProxyPass "/" "{SOCKET}|fcgi://h/srv/a/"'


def section(address: str, time: int | str) -> str:
    return f'<Proxy "{address}">\nProxySet timeout={time}\n</Proxy>\n'


NONE = ("ProxyTimeout", "60")
SITES: list[tuple[str, str, tuple[str, str]]] = [  # main server, site, the limit
    ("", HANDLER, NONE),
    ("", f"ProxyTimeout 3\n{HANDLER}{section('fcgi://h', 9)}", ("timeout", "9")),
    ("", section(f"{SOCKET}|FCGI://H", 9) + HANDLER, ("timeout", "9")),
    ("", section("fcgi://h", 9) + section("fcgi://h/srv/", 8) + HANDLER, ("timeout", "8")),
    ("", section("fcgi://h", 9) + section("fcgi://h", 8) + HANDLER, ("timeout", "8")),
    ("", section("fcgi://h1", 9) + HANDLER, NONE),
    ("", section("fcgi://other", 9) + HANDLER, NONE),
    ("", f'<Proxy "fcgi://h" timeout=7>\n</Proxy>\n{HANDLER}', ("timeout", "7")),
    ("", f'{section("fcgi://h", 9)}ProxySet "fcgi://h" timeout=6\n{HANDLER}', ("timeout", "6")),
    (section("fcgi://h", 9), HANDLER, ("timeout", "9")),
    (section("fcgi://h", 9), section("fcgi://h", 8) + HANDLER, ("timeout", "9")),
    ("", f"{PATTERN} timeout=4\n", ("timeout", "4")),
    ("", f"{PATTERN}\n{section('fcgi://h', 9)}", NONE),
    ("", f"{section('fcgi://h', 9)}{PATTERN} timeout=4\n", ("timeout", "4")),
    ("", f"{PASS} timeout=4\n", ("timeout", "4")),
    ("", f"{section(f'{SOCKET}|fcgi://h', 9)}{PASS} timeout=4\n", ("timeout", "9")),
    ("", f"{PASS} timeout=4\n{section('fcgi://h/srv/a/', 9)}", ("timeout", "9")),
]


def served(tmp_path: Path, main: str, site: str) -> Path:
    text = f"Listen 80\n{main}<VirtualHost *:80>\nServerName a\nDocumentRoot /srv/a\n{site}</VirtualHost>\n"
    return small_root(tmp_path, [], None, "", {"etc/apache2/apache2.conf": text, "srv/a/index.php": "<?php\n"})


@pytest.mark.parametrize(("main", "site", "limit"), SITES)
def test_the_line_that_says_how_long_it_is_waited(tmp_path: Path, main: str, site: str, limit: tuple[str, str]) -> None:
    (found,) = look(served(tmp_path, main, site)).sites
    assert [(one.name, one.value) for one in found.limits if one.name != "LimitRequestBody"] == [limit]
    assert found.runtime == "8.2/fpm/www"


@pytest.mark.parametrize(
    ("address", "to"), [("fcgi://h", "h:8000"), ("fcgi://h:9000", "h:9000"), ("unix:/run/other.sock|fcgi://h", None)]
)
def test_a_line_that_finds_a_worker_leads_to_where_that_is(tmp_path: Path, address: str, to: str | None) -> None:
    """As real servers answer: 500, the host is not known."""
    at = address.rpartition("|")[2]
    line = f'ProxyPass "/" "{SOCKET}|{at}/srv/a/"\n'
    (site,) = look(served(tmp_path, "", section(address, 9) + line)).sites
    assert (site.runtime, site.handler) == (None, to or "unix:/run/other.sock")
