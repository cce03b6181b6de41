"""No application named: what a server serves is found, and judged site by site; by the installed program."""

import json
from pathlib import Path

import pytest

from tests.small_root import small_root, write

from .program import run

SITE = """server {{
  listen 80; server_name {name}.observatory.example; root {root}; index index.php;
  location ~ \\.php$ {{ fastcgi_pass unix:/run/php/php8.2-fpm.sock; }}
}}
"""
PROXY = "server {\n listen 80; server_name orrery.observatory.example;\n location / { proxy_pass http://127.0.0.1:9000; }\n}\n"
PLAIN = "server {\n listen 80; server_name plain.observatory.example; root /srv/pages;\n}\n"
LED = """server {
  listen 80; server_name led.observatory.example; root /srv/pages; index index.php;
  location /almanac { alias /srv/two/almanac; location ~ \\.php$ { fastcgi_pass unix:/run/php/php8.2-fpm.sock; } }
  location ~ ^/old/(.+\\.php)$ { alias /srv/platevault/$1; fastcgi_pass unix:/run/php/php8.2-fpm.sock; }
}
server {
  listen 80; server_name single.observatory.example;
  location / { fastcgi_pass unix:/run/php/php8.2-fpm.sock; fastcgi_param SCRIPT_FILENAME /srv/flat/www/index.php; }
}
"""
APACHE = """Listen 80
DirectoryIndex index.php
<FilesMatch "\\.php$">
  SetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"
</FilesMatch>
Alias /icons/ /usr/share/apache2/icons/
Alias /vault /srv/platevault
<VirtualHost *:80>
  ServerName nightlog.observatory.example
  DocumentRoot /srv/nightlog/public
  Alias "/almanac" "/srv/two/almanac"
</VirtualHost>
"""
SITES = {
    "nightlog": "/srv/nightlog/public",
    "platevault": "/srv/platevault",
    "dome": "/srv/dome",
    "gone": "/srv/gone",
    "pages": "/srv/pages",
    "flat": "/srv/flat/www",
    "again": "/srv/nightlog/public",
    "two": "/srv/two",
    "whole": "/",
}
FILES: dict[str, str | bytes] = {
    "srv/nightlog/composer.json": '{"name": "observatory/nightlog", "version": "2.1", "require": {"php": ">=8.1", "ext-nosuch": "*"}}',
    "srv/nightlog/public/index.php": "<?php echo json_encode(1);",
    "srv/nightlog/extra.needs.toml": 'format = 1\n[application]\nname = "x"\n[extensions]\nrequired = ["mbstring"]\n',
    "srv/platevault/index.php": "<?php if (PHP_VERSION_ID < 70400) exit('old'); echo ctype_alpha('a');",
    "srv/pages/index.html": "<p>pages",
    "srv/flat/common.php": "<?php ctype_alpha('a');",
    "srv/flat/www/index.php": "<?php require '../common.php';",
    "srv/two/orrery/index.php": "<?php echo 1;",
    "srv/two/orrery/composer.json": '{"name": "observatory/orrery"}',
    "srv/two/almanac/index.php": "<?php ctype_alpha('a');",
    "srv/two/almanac/composer.json": '{"name": "observatory/almanac"}',
}


@pytest.fixture
def root(tmp_path: Path) -> Path:
    file = small_root(tmp_path)
    conf = "".join(SITE.format(name=name, root=path) for name, path in SITES.items()) + PROXY + PLAIN + LED
    write(
        file,
        {
            **FILES,
            "etc/nginx/nginx.conf": "http {\n include /etc/nginx/sites-enabled/*;\n}\n",
            "etc/nginx/sites-enabled/all": conf,
        },
    )
    (file / "srv/dome").mkdir()
    return file


def test_every_site_has_its_line_and_those_that_lack_something_their_details(root: Path) -> None:
    done = run(Path("/"), "check", "--server", str(root), XDG_CACHE_HOME=str(root / "cache"), COLUMNS="200")
    assert done.returncode == 1
    lines = [" ".join(line.split()) for line in done.stdout.splitlines()]
    told: dict[str, str] = {}
    for line in lines:
        if ".observatory.example " in line[:40]:
            site, _, said = line.partition(".observatory.example ")
            told[site] = f"{told[site]}; {said}" if site in told else said
    assert told == {
        "nightlog": "nightlog 2.1 in /srv/nightlog does not run here: 2 required needs are not met",
        "again": "nightlog 2.1 in /srv/nightlog does not run here: 2 required needs are not met",
        "two": "almanac in /srv/two/almanac runs here: all 2 needs are met; orrery in /srv/two/orrery runs here: its only need is met",
        "whole": "/ / holds much more than an application: not looked into",
        "platevault": "platevault in /srv/platevault runs here: all 2 needs are met",
        "dome": "/srv/dome /srv/dome is empty",
        "gone": "/srv/gone /srv/gone is not there",
        "pages": "/srv/pages holds no PHP source and no manifest; name the directory of a PHP application",
        "flat": "flat in /srv/flat runs here: all 2 needs are met",
        "orrery": "hands its requests on to 127.0.0.1:9000: what answers there is not looked into",
        "plain": "/srv/pages hands nothing to PHP",
        "led": "/almanac almanac in /srv/two/almanac runs here: all 2 needs are met; "
        "~ ^/old/(.+\\.php)$ platevault in /srv/platevault runs here: all 2 needs are met",
        "single": "flat in /srv/flat runs here: all 2 needs are met",
    }  # fmt: skip
    assert any(line.startswith("extension nosuch") for line in lines)
    assert any(line.startswith("extension mbstring") for line in lines), "the needs file beside it adds"
    assert f"fundamentum plan --server {root}" in lines[-1]


def test_aliases_of_apache_lead_to_applications_of_their_own(tmp_path: Path) -> None:
    root = small_root(
        tmp_path, extra={**FILES, "etc/apache2/apache2.conf": APACHE, "usr/share/apache2/icons/a.png": ""}
    )
    done = run(Path("/"), "check", "--server", str(root), XDG_CACHE_HOME=str(root / "cache"), COLUMNS="200")
    told = [" ".join(line.split()) for line in done.stdout.splitlines() if ".observatory.example " in line[:40]]
    assert told == [
        "nightlog.observatory.example nightlog 2.1 in /srv/nightlog does not run here: 2 required needs are not met",
        "nightlog.observatory.example /almanac almanac in /srv/two/almanac runs here: all 2 needs are met",
        "nightlog.observatory.example /vault platevault in /srv/platevault runs here: all 2 needs are met",
    ]


def test_as_json_all_are_judged(root: Path) -> None:
    done = run(Path("/"), "check", "--server", str(root), "--format", "json")
    document = json.loads(done.stdout)
    assert {one["name"]: one["satisfied"] for one in document["applications"]} == {
        "nightlog": False,
        "platevault": True,
        "flat": True,
        "almanac": True,
        "orrery": True,
    }
    assert sum(one["name"] == "nightlog" for one in document["applications"]) == 2, "for each of its sites"


def test_a_plan_for_all_that_is_served(root: Path) -> None:
    done = run(Path("/"), "plan", "--server", str(root))
    assert "afterwards: 2 of 2 needs of platevault are met" in done.stdout


def test_a_survey_has_no_applications(root: Path, tmp_path: Path) -> None:
    run(Path("/"), "survey", str(root), "-o", str(tmp_path / "a.survey.json"))
    for command in ("check", "plan"):
        done = run(tmp_path, command, "--server", "a.survey.json")
        assert (done.returncode, "name an APP, or give the server itself" in done.stderr) == (2, True)


def test_nothing_served_says_what_there_is(tmp_path: Path) -> None:
    root = small_root(tmp_path, extra={"etc/nginx/nginx.conf": "events {}\n"})
    done = run(Path("/"), "check", "--server", str(root))
    assert done.returncode == 1
    assert "no site here is handed to PHP" in done.stdout
    assert "8.2/fpm/www" in done.stdout
    assert "fundamentum plan APP --site NAME --directory DIR" in done.stdout
