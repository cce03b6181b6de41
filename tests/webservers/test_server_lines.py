"""Which lines of its own files Apache starts with; real ones are asked in ``tests/real/test_server_files.py``."""

from pathlib import Path

import pytest

from tests.small_root import look, small_root
from tests.webservers.server_lines import LINES

MODULES = (
    "access_compat alias auth_basic authn_core authz_core authz_host autoindex deflate dir env filter mime mpm_prefork "
    "negotiation php setenvif status"
).split()
HOST = "<VirtualHost *:80>\nServerName a\nDocumentRoot /srv/a\n{more}</VirtualHost>\n"


def refused(root: Path, line: str, modules: list[str], more: str = "") -> list[str]:
    loaded = "".join(f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n" for name in modules)
    php = '<FilesMatch "\\.php$">\nSetHandler application/x-httpd-php\n</FilesMatch>\n'
    files: dict[str, str | bytes] = {
        "etc/apache2/apache2.conf": f"{loaded}{php}Include x.conf\n{HOST.format(more=more)}",
        "etc/apache2/x.conf": f"{line}\n",
        "srv/a/index.php": "<?php",
    }
    return [one.why for site in look(small_root(root, extra=files)).sites for one in site.refused]


@pytest.mark.parametrize("line", LINES)
def test_what_it_starts_with(tmp_path: Path, line: str) -> None:
    said = refused(tmp_path, line, MODULES)
    assert bool(said) == bool(LINES[line])
    assert all(LINES[line] in why for why in said)


def test_each_module_that_is_lacking_is_told_once(tmp_path: Path) -> None:
    said = refused(tmp_path, "RewriteEngine On\nHeader set a b\nRewriteRule ^ -", MODULES, more="Header set c d\n")
    assert [why.rpartition(" ")[2] for why in said] == ["rewrite", "headers"]


@pytest.mark.parametrize(
    "modules", [[], ["authz_core", "php"], [module for module in MODULES if module != "authz_core"]]
)
def test_where_modules_are_not_told_nothing_is_said(tmp_path: Path, modules: list[str]) -> None:
    assert refused(tmp_path, "RewriteEngine On\nNonsense on", modules) == []


def test_what_a_module_that_is_not_known_may_know_is_not_told(tmp_path: Path) -> None:
    assert refused(tmp_path, "Nonsense on", [*MODULES, "observatory"]) == []
