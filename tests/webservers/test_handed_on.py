"""Requests that are handed on: by a web server in front of another, and by files of directories."""

from pathlib import Path

import pytest

from fundamentum.changes.service import Restart
from fundamentum.check.judge import check
from fundamentum.model.survey import Survey
from fundamentum.plan.planner import plan
from tests.small_root import TODAY, look, needs, small_root

APACHE = """\
{}
<VirtualHost 127.0.0.1:8080>
ServerName first
DocumentRoot /srv/first
SetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"
</VirtualHost>
<VirtualHost 127.0.0.1:8080>
ServerName nightlog
DocumentRoot /srv/nightlog
SetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"
</VirtualHost>
"""
KEPT = "proxy_set_header Host $host;"
NGINX = "http {{\nserver {{\nlisten 80;\nserver_name {};\nclient_max_body_size 3m;\nlocation / {{ {} proxy_pass {}; }}\n}}\n}}\n"
LARGE = needs(settings='[uploads]\nlargest = "20M"\n')
Front = tuple[str, str, list[str]]
FRONTS: list[Front] = [  # name, the location, the sites behind it
    ("nightlog", KEPT + "|http://127.0.0.1:8080", ["nightlog"]),
    ("nightlog", "|http://127.0.0.1:8080", ["first"]),
    ("other", KEPT + "|http://localhost:8080/", ["first"]),
    ("nightlog", KEPT + "|http://127.0.0.1:8081", []),
    ("nightlog", KEPT + "|http://10.0.0.7:8080", []),
    ("nightlog", KEPT + "|http://$backend", []),
]


def behind(folder: Path, nginx: str, apache: str = "") -> Survey:
    files: dict[str, str | bytes] = {"etc/nginx/nginx.conf": nginx, "etc/apache2/apache2.conf": APACHE.format(apache)}
    return look(small_root(folder, extra=files))


@pytest.mark.parametrize(("name", "location", "sites"), FRONTS)
def test_which_site_another_web_server_stands_in_front_of(
    tmp_path: Path, name: str, location: str, sites: list[str]
) -> None:
    survey = behind(tmp_path, NGINX.format(name, *location.split("|")))
    assert [site.name for site in survey.sites if site.fronts] == sites
    assert all(name in (site.name, *site.aliases) for site in survey.sites if site.fronts)


def test_a_host_without_a_port_waits_where_the_server_listens(tmp_path: Path) -> None:
    apache = APACHE.format("Listen 8080").replace("127.0.0.1:8080>", "*>")
    nginx = NGINX.format("nightlog", KEPT, "http://127.0.0.1:8080")
    survey = look(small_root(tmp_path, extra={"etc/nginx/nginx.conf": nginx, "etc/apache2/apache2.conf": apache}))
    assert [site.name for site in survey.sites if site.fronts] == ["nightlog"]


def test_both_web_servers_are_links_of_the_chain_and_widened_where_they_stand(tmp_path: Path) -> None:
    survey = behind(tmp_path, NGINX.format("nightlog", KEPT, "http://127.0.0.1:8080"), "LimitRequestBody 4000000")
    (finding,) = [
        finding for finding in check(LARGE, survey, "nightlog").findings if str(finding.need) == "uploads:largest"
    ]
    assert [(link.of, link.name, link.enough) for link in finding.chain][:2] == [
        ("nginx", "client_max_body_size", False),
        ("Apache", "LimitRequestBody", False),
    ]
    made = plan([LARGE], survey, "nightlog", today=TODAY)
    changed = {edit.path: [line for line in edit.diff.splitlines()[2:] if line[0] in "+-"] for edit in made.edits}
    assert changed["/etc/nginx/nginx.conf"] == ["-client_max_body_size 3m;", "+client_max_body_size 21m;"]
    assert made.complete and {restart.service for restart in made.of(Restart)} >= {"nginx", "apache2"}


def test_a_front_that_refuses_is_the_first_link(tmp_path: Path) -> None:
    survey = behind(tmp_path, NGINX.format("nightlog", "deny all; " + KEPT, "http://127.0.0.1:8080"))
    assert "nginx refuses all of it: deny all" in (check(needs(), survey, "nightlog").findings[0].found or "")


HOST = "<VirtualHost *:80>\nServerName a\nDocumentRoot /srv/a\n{}\n</VirtualHost>\n<Directory /srv>\nAllowOverride {}\n</Directory>\n"
PORT = 'SetHandler "proxy:fcgi://127.0.0.1:9000"\n'
OWN = 'SetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"'
Row = tuple[str, str, str, list[tuple[str | None, str | None]], str]
FILES: list[Row] = [  # the host's own handler, AllowOverride, the file, (part, runtime), why every request fails
    (OWN, "All", "", [(None, "8.2/fpm/www")], ""),
    (OWN, "All", PORT, [(None, "8.2/fpm/port")], ""),
    (OWN, "FileInfo", PORT, [(None, "8.2/fpm/port")], ""),
    ("", "All", PORT, [(None, "8.2/fpm/port")], ""),
    ("", "All", "", [], ""),
    (OWN, "All", f'<FilesMatch "\\.php$">\n{PORT}</FilesMatch>\n', [(None, "8.2/fpm/port")], ""),
    (OWN, "All", "AddHandler application/x-httpd-php74 .php\n", [(None, "8.2/fpm/www")], ""),
    ("", "All", "AddHandler application/x-httpd-php74 .php\n", [(None, None)], ""),
    (OWN, "Options", PORT, [(None, "8.2/fpm/www")], "AllowOverride does not let such a file use SetHandler"),
    (OWN, "None", PORT, [(None, "8.2/fpm/www")], ""),
]


@pytest.mark.parametrize(("own", "override", "file", "rows", "failing"), FILES)
def test_a_file_of_the_document_root_hands_on(
    tmp_path: Path, own: str, override: str, file: str, rows: list[tuple[str | None, str | None]], failing: str
) -> None:
    files: dict[str, str | bytes] = {
        "etc/apache2/apache2.conf": HOST.format(own, override),
        "srv/a/.htaccess": file,
        "etc/php/8.2/fpm/pool.d/port.conf": "[port]\nuser = ida\nlisten = 127.0.0.1:9000\n",
    }
    survey = look(small_root(tmp_path, extra=files))
    assert [(site.part, site.runtime) for site in survey.sites] == rows
    assert failing in "".join(site.failing for site in survey.sites)


def test_a_file_of_a_directory_below_hands_that_part_on(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {
        "etc/apache2/apache2.conf": HOST.format(OWN, "All"),
        "srv/a/old/.htaccess": PORT,
        "etc/php/8.2/fpm/pool.d/port.conf": "[port]\nuser = ida\nlisten = 127.0.0.1:9000\n",
    }
    survey = look(small_root(tmp_path, extra=files))
    assert {site.part: site.runtime for site in survey.sites} == {None: "8.2/fpm/www", "/srv/a/old": "8.2/fpm/port"}


ELSEWHERE = "http://127.0.0.1:9009/$1 [P]"
REWRITTEN = [  # rules of the host, the runtime that answers its front page
    (f"RewriteRule ^/?(.*)$ {ELSEWHERE}", None),
    (f"RewriteRule ^/api/(.*)$ {ELSEWHERE}", "8.2/fpm/www"),
    (f"RewriteCond %{{HTTP:Upgrade}} websocket\nRewriteRule ^/?(.*)$ {ELSEWHERE}", "8.2/fpm/www"),
    ("RewriteRule ^/?(.*)$ ws://127.0.0.1:9009/$1 [P]", None),
    ("RewriteCond %{HTTP:Upgrade} websocket\nRewriteRule ^/?(.*)$ ws://127.0.0.1:9009/$1 [P]", "8.2/fpm/www"),
]
MODULES = "".join(f"LoadModule {name}_module x\n" for name in ("rewrite", "proxy", "proxy_fcgi", "proxy_http", "dir"))


@pytest.mark.parametrize(("rules", "runtime"), REWRITTEN)
def test_what_rewriting_passes_to_another_web_server_is_not_for_php(
    tmp_path: Path, rules: str, runtime: str | None
) -> None:
    host = HOST.format(f"RewriteEngine On\n{rules}\n{OWN}", "None")
    extra: dict[str, str | bytes] = {
        "etc/apache2/apache2.conf": f"{MODULES}DirectoryIndex index.php\n{host}",
        "srv/a/index.php": "",
    }
    survey = look(small_root(tmp_path, extra=extra))
    assert [site.runtime for site in survey.sites if site.name == "a"] == ([runtime] if runtime else [])
