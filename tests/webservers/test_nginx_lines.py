"""Which lines of its own files nginx starts with; real ones are asked in ``tests/real/test_nginx_files.py``."""

from pathlib import Path

import pytest

from fundamentum.model.survey import Survey
from tests.small_root import look, small_root
from tests.webservers.nginx_lines import IN_SERVER

SITE = "server {{\n listen 80; server_name {name};\n location ~ \\.php$ {{ fastcgi_pass unix:/run/php/php8.2-fpm.sock; }}\n{more}\n}}\n"
MAIN = "events {}\nhttp {\n root /srv/s0;\n include sites-enabled/*;\n}\n"


def surveyed(root: Path, more: str, folder: str = "enabled") -> Survey:
    files: dict[str, str | bytes] = {
        "etc/nginx/nginx.conf": MAIN,
        "etc/nginx/sites-enabled/a.conf": SITE.format(name="s0", more=""),
        f"etc/nginx/sites-{folder}/b.conf": SITE.format(name="s1", more=more),
        "srv/s0/index.php": "<?php",
    }
    return look(small_root(root, extra=files))


@pytest.mark.parametrize("line", IN_SERVER)
def test_what_it_starts_with(tmp_path: Path, line: str) -> None:
    site = next(site for site in surveyed(tmp_path, line).sites if site.name == "s0")
    assert bool(site.refused) == bool(IN_SERVER[line])
    assert all(refused.why.startswith(IN_SERVER[line]) for refused in site.refused[:1])
    assert all(refused.origin.file == "/etc/nginx/sites-enabled/b.conf" for refused in site.refused)


def test_of_a_file_that_is_not_read_its_own_site_alone_is_told(tmp_path: Path) -> None:
    survey = surveyed(tmp_path, "alias /srv/x;", "available")
    assert [site.refused for site in survey.sites] == [()]
    (idle,) = survey.idle_sites
    assert [refused.why for refused in idle.refused] == ["alias is not allowed there (server), but in location"]


def test_names_of_other_blocks_mean_something_else(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {
        "etc/nginx/nginx.conf": MAIN.replace("http {", "stream { server { listen 9; proxy_pass 127.0.0.1:10; } }\nhttp {\n"
            " upstream u { server 127.0.0.1:9; }\n map $uri $x { default 1; root 2; }"),
        "etc/nginx/sites-enabled/a.conf": SITE.format(name="s0", more=""),
    }  # fmt: skip
    (site,) = look(small_root(tmp_path, extra=files)).sites
    assert site.refused == ()
