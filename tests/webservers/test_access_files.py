"""Files of directories that Apache may not take."""

from pathlib import Path

import pytest

from tests.small_root import look, small_root
from tests.webservers.access_lines import LINES, LOADED, said_of

MODULES = "".join(f"LoadModule {name}_module /m/mod_{name}.so\n" for name in LOADED)
SITE = "<Directory /srv/a>\nRequire all granted\nAllowOverride {}\n</Directory>\n"
HANDLER = '<FilesMatch "\\.php$">\nSetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://h"\n</FilesMatch>\n'


def served(tmp_path: Path, allowed: str, text: str, below: str = "") -> Path:
    host = f"<VirtualHost *:80>\nServerName a\nDocumentRoot /srv/a\n{SITE.format(allowed)}{HANDLER}</VirtualHost>\n"
    files: dict[str, str | bytes] = {
        "etc/apache2/apache2.conf": f"Listen 80\n{MODULES}{host}",
        "srv/a/index.php": "<?php\n",
        f"srv/a/{below}.htaccess": f"{text}\n",
        "etc/apache2/mods-available/rewrite.load": "",
    }
    return small_root(tmp_path, [], None, "", files)


@pytest.mark.parametrize(("allowed", "text", "said"), [line for line in LINES if "php_" not in line[1]])
def test_whether_apache_takes_a_file(tmp_path: Path, allowed: str, text: str, said: str) -> None:
    (site,) = look(served(tmp_path, allowed, text)).sites
    assert said_of(site) == said, site
