"""What a web server's own configuration stops before PHP, and what a plan adds; tests/real/test_links.py asks real ones."""

from pathlib import Path

import pytest
from msgspec.structs import replace

from fundamentum.changes.service import Restart
from fundamentum.check.judge import check
from fundamentum.model.surrounding_facts import ServerProcess
from fundamentum.plan.planner import plan
from fundamentum.report.plans.script import as_script
from tests.small_root import TODAY, look, needs, small_root

SOCKET = "unix:/run/php/php8.2-fpm.sock"
PASS = f"fastcgi_pass {SOCKET};"
LOCATION = f"location ~ \\.php$ {{ {PASS} }}"
NGINX = "http {{\n{}\nserver {{\nserver_name a.example;\nroot /srv/a;\n{}\n}}\n}}\n"
APACHE = """\
{}
<VirtualHost *:80>
ServerName a.example
DocumentRoot /srv/a
SetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"
{}
</VirtualHost>
"""
CLOSED = "<Directory />\nRequire all denied\n</Directory>\n"
GRANTED = '+<Directory "/srv/a"> +Require all granted +</Directory>'
INDEXED = "DirectoryIndex index.php"
Row = tuple[str, str, str, str, str]
CASES: list[Row] = [  # server, around the site, in the site, what is said (empty: nothing), the lines that a plan adds
    ("nginx", "", f"index index.php;\n{LOCATION}", "", ""),
    ("nginx", "index index.php;", LOCATION, "", ""),
    ("nginx", "", LOCATION, "a request for / finds no index file: index.php is not among index.html", "+index index.php;"),
    ("nginx", "", f"location / {{ index x.html; }}\n{LOCATION}", "is not among x.html", "by hand"),
    ("nginx", "", f"location / {{ index index.php; }}\n{LOCATION}", "", ""),
    ("nginx", "", f"location / {{ try_files $uri /index.php?$args; }}\n{LOCATION}", "", ""),
    ("nginx", "", f"location / {{ try_files $uri $uri/ /index.php?$args; }}\n{LOCATION}", "finds no index file", "+index index.php;"),
    ("nginx", "", f"index index.php;\nlocation / {{ try_files $uri $uri/ =404; }}\n{LOCATION}", "", ""),
    ("nginx", "", f"index index.php;\nlocation / {{ try_files $uri =404; }}\n{LOCATION}", "a request for / is answered with 404", "by hand"),
    ("nginx", "", f"location / {{ rewrite ^ /index.php; }}\n{LOCATION}", "", ""),
    ("nginx", "", f"location = / {{ return 302 /index.php; }}\n{LOCATION}", "", ""),
    *(
        ("nginx", "", f"location / {{ {line} }}\n{LOCATION}", "", "")
        for line in (
            "if ($arg_x) { return 404; }", "proxy_pass http://127.0.0.1:9;", "fastcgi_pass 127.0.0.1:9;", "alias /srv/b/;",
            "error_page 403 = /index.php;", "uwsgi_pass 127.0.0.1:9;", "scgi_pass 127.0.0.1:9;",
        )
    ),
    ("nginx", "", f"index index.php;\ndeny all;\n{LOCATION}", "nginx refuses all of it: deny all", "by hand"),
    ("nginx", "", f"index index.php;\nallow 10.0.0.0/8;\ndeny all;\n{LOCATION}", "", ""),
    ("nginx", "", f"index index.php;\nsatisfy any;\ndeny all;\n{LOCATION}", "with an error", "by hand"),
    ("nginx", "", f"index index.php;\nsatisfy any;\ndeny all;\nauth_basic x;\n{LOCATION}", "", ""),
    ("nginx", "", f"index index.php;\nsatisfy all;\ndeny all;\nauth_basic x;\n{LOCATION}", "refuses all of it", "by hand"),
    ("nginx", "deny all;", f"index index.php;\nsatisfy any;\n{LOCATION}", "with an error", "by hand"),
    ("nginx", "deny all;", f"index index.php;\nlocation ~ \\.php$ {{ allow all; {PASS} }}", "", ""),
    ("nginx", "", f"index index.php;\nreturn 503;\n{LOCATION}", "nginx answers all of it itself: return 503", "by hand"),
    ("nginx", "", f"index index.php;\nlocation ~ \\.php$ {{ return 403; {PASS} }}", "return 403", "by hand"),
    ("nginx", "", f"index index.php;\nlocation = /index.php {{ return 404; }}\n{LOCATION}", "a request for / with an error, and one for /index.php", "by hand"),
    ("nginx", "", f"index index.php;\nif (!-f $document_root/open) {{ return 503; }}\n{LOCATION}", "with an error, and one for /index.php", "by hand"),
    ("nginx", "", f"index index.php;\nif (!-f $document_root/index.php) {{ return 503; }}\n{LOCATION}", "", ""),
    ("nginx", "", f"index index.php;\nlocation ~ \\.php$ {{ internal; {PASS} }}", "", ""),
    ("nginx", "", f"index index.php;\nlocation = / {{ return 404; }}\n{LOCATION}", "", ""),
    ("nginx", "", f"index index.php;\nerror_page 404 /index.php;\nlocation = /index.php {{ return 404; }}\n{LOCATION}", "", ""),
    ("nginx", "", f"index index.php;\nif ($host != a.example) {{ return 404; }}\n{LOCATION}", "", ""),
    ("apache2", "", INDEXED, "", ""),
    ("apache2", INDEXED, "", "", ""),
    ("apache2", INDEXED, "<Files index.php>\nRequire all denied\n</Files>", "with an error, and one for /index.php", "by hand"),
    ("apache2", INDEXED, "<Files other.php>\nRequire all denied\n</Files>", "", ""),
    ("apache2", INDEXED, "<Files index.php>\nRequire ip 10.0.0.0/8\n</Files>", "", ""),
    ("apache2", INDEXED, "Redirect 410 /index.php", "with an error, and one for /index.php", "by hand"),
    ("apache2", INDEXED, "RedirectMatch 404 ^/$", "", ""),
    ("apache2", INDEXED, '<Directory /srv/a>\n<FilesMatch "php$">\nRequire all granted\n</FilesMatch>\n</Directory>\n<FilesMatch "php$">\nRequire all denied\n</FilesMatch>', "", ""),
    ("apache2", "", "", "index.php is not among index.html", f"+{INDEXED}"),
    ("apache2", INDEXED, "DirectoryIndex x.html", "index.php is not among x.html", f"+{INDEXED}"),
    ("apache2", "", "DirectoryIndex disabled", "not among those that are looked for", "by hand"),
    ("apache2", INDEXED, "<Directory /srv/a>\nDirectoryIndex x.html\n</Directory>", "is not among x.html", "by hand"),
    ("apache2", "", "FallbackResource /index.php", "", ""),
    ("apache2", "", "DirectoryIndex /x.html", "", ""),
    ("apache2", f"{CLOSED}{INDEXED}", "", "Apache refuses all of it: Require all denied", GRANTED),
    ("apache2", f"{CLOSED}{INDEXED}", "<Directory /srv>\nRequire all granted\n</Directory>", "", ""),
    ("apache2", f"{CLOSED}{INDEXED}", "<Directory /srv>\nRequire ip 10.0.0.0/8\n</Directory>", "", ""),
    ("apache2", f"{CLOSED}{INDEXED}", "<Directory /srv/a/sub>\nRequire all granted\n</Directory>", "all denied", GRANTED),
    ("apache2", f"{CLOSED}{INDEXED}", "<Location />\nRequire all granted\n</Location>", "", ""),
    ("apache2", INDEXED, "<Directory /srv/a>\nRequire all denied\n</Directory>", "all denied", "by hand"),
    ("apache2", INDEXED, "<Location />\n<RequireAny>\nRequire all denied\n</RequireAny>\n</Location>", "Apache answers a request for / with an error", "by hand"),
    ("apache2", INDEXED, "<Directory /srv>\nOrder deny,allow\nDeny from all\n</Directory>", "Deny from all", GRANTED.replace("Require all granted", "Order allow,deny +Allow from all")),
    ("apache2", INDEXED, "<Directory /srv>\nDeny from all\nAllow from 10.1\n</Directory>", "", ""),
    ("apache2", f"Listen 8080\n{INDEXED}", "", "Apache listens at no port 80, where this site waits", "# For nightlog, as planned by fundamentum. Listen 80"),
    ("apache2", f"Listen 127.0.0.1:80\n{INDEXED}", "", "", ""),
]  # fmt: skip


def configured(server: str, text: str) -> dict[str, str | bytes]:
    main = "etc/nginx/nginx.conf" if server == "nginx" else "etc/apache2/apache2.conf"
    conf = "" if server == "nginx" else "IncludeOptional conf-enabled/*.conf\n"
    return {main: conf + text, "srv/a/index.php": ""}


@pytest.mark.parametrize(("server", "around", "inside", "said", "added"), CASES)
def test_what_is_stopped(tmp_path: Path, server: str, around: str, inside: str, said: str, added: str) -> None:
    text = (NGINX if server == "nginx" else APACHE).format(around, inside)
    survey = look(small_root(tmp_path, extra=configured(server, text)))
    judged = check(needs(), survey).findings[0]
    assert (judged.verdict == "unmet", said in (judged.found or "")) == (bool(said), True), judged.found
    made = plan([needs()], survey, today=TODAY)
    lines = [
        " ".join(line.split()).replace("+ ", "+")
        for edit in made.edits
        for line in edit.diff.splitlines()[2:]
        if line.startswith("+")
    ]
    assert (" ".join(lines) or " ".join(" ".join(file.content.splitlines()) for file in made.files)) == (
        "" if added == "by hand" else added
    )
    assert made.complete is (added != "by hand")


@pytest.mark.parametrize("beyond", ["location = /index.php { return 404; }", "location / { deny all; }"])
def test_what_is_beyond_a_missing_index_file_stops_requests_too(tmp_path: Path, beyond: str) -> None:
    """The line for the index file is planned, and does not make it run: a person has to see to the rest."""
    survey = look(small_root(tmp_path, extra=configured("nginx", NGINX.format("", f"{beyond}\n{LOCATION}"))))
    assert "finds no index file" in (check(needs(), survey).findings[0].found or "")
    made = plan([needs()], survey, today=TODAY)
    assert len(made.edits) == 1 and not made.complete
    assert "with an error" in made.unresolved[0].why


def test_what_is_answered_first_is_a_remark(tmp_path: Path) -> None:
    text = NGINX.format("", f"index index.html index.php;\n{LOCATION}")
    survey = look(small_root(tmp_path, extra={**configured("nginx", text), "srv/a/index.html": ""}))
    judged = check(needs(), survey).findings[0]
    why = "a request for / is answered with index.html, which comes before index.php"
    assert (judged.verdict, judged.remark) == ("met", f"{why}; what runs was not seen: judged by the files")


@pytest.mark.parametrize("server", ["nginx", "apache2"])
def test_a_site_that_is_not_linked_is_named_and_linked(tmp_path: Path, server: str) -> None:
    main, ending = ("etc/nginx/nginx.conf", "") if server == "nginx" else ("etc/apache2/apache2.conf", ".conf")
    site = NGINX.format("", f"index index.php;\n{LOCATION}") if server == "nginx" else APACHE.format("", INDEXED)
    site = site.removeprefix("http {\n").removesuffix("}\n")
    include = "include /etc/nginx/sites-enabled/*;" if server == "nginx" else "IncludeOptional sites-enabled/*.conf"
    folder = f"etc/{server}/sites"
    files: dict[str, str | bytes] = {
        main: f"http {{ {include} }}\n" if server == "nginx" else f"{include}\n",
        f"{folder}-available/nightlog{ending}": site,
        f"{folder}-available/old.bak~": site,
        f"{folder}-enabled/.keep": "",
        "srv/a/index.php": "",
    }
    survey = look(small_root(tmp_path, extra=files))
    assert (len(survey.sites), [idle_site.name for idle_site in survey.idle_sites]) == (0, ["a.example"])
    made = plan([needs()], survey, today=TODAY)
    (first,) = made.before[0].findings
    assert (
        first.found is not None and f"a.example is set up in /{folder}-available/nightlog{ending}, which" in first.found
    )
    assert made.complete and [(restart.service, restart.verb) for restart in made.of(Restart)] == [(server, "reload")]
    link = f"/{folder}-enabled/nightlog{ending}"
    assert f"'ln -s /{folder}-available/nightlog{ending} {link}'" in as_script(made)
    (tmp_path / link[1:]).symlink_to(f"/{folder}-available/nightlog{ending}")
    again = look(tmp_path)
    assert (len(again.sites), again.idle_sites) == (1, ())
    assert check(needs(), again, "a.example").findings[0].verdict == "met"


@pytest.mark.parametrize(
    ("server", "changed", "verb"),
    [("nginx", "/etc/nginx/nginx.conf", "reload"), ("apache2", "/etc/apache2/mods-enabled/php8.2.load", "restart")],
)
def test_what_the_web_server_has_not_read_yet(tmp_path: Path, server: str, changed: str, verb: str) -> None:
    text = NGINX.format("", f"index index.php;\n{LOCATION}") if server == "nginx" else APACHE.format("", INDEXED)
    survey = look(small_root(tmp_path, extra=configured(server, text)))
    runtimes = tuple(replace(runtime, started=5.0) for runtime in survey.runtimes)
    survey = replace(survey, processes="seen", runtimes=runtimes, servers=(ServerProcess(server, 4.0, (changed,)),))
    judged = check(needs(), survey).findings[0]
    assert judged.found is not None and f"{changed} changed after" in judged.found
    made = plan([needs()], survey, today=TODAY)
    assert made.complete and [(restart.service, restart.verb) for restart in made.of(Restart)] == [(server, verb)]
    other = replace(survey.sites[0], name="b", set_up=replace(survey.sites[0].origin, file=changed))
    site = replace(survey.sites[0], set_up=replace(survey.sites[0].origin, file="/etc/x"), origin=judged.origin)
    quiet = replace(survey, sites=(replace(site, origin=replace(site.origin, file="/etc/x")), other))
    assert check(needs(), quiet, "a.example").findings[0].verdict == "met", "the file of another site"


DEPENDING = [  # the server, in the site, what is said, where it cannot be told
    ("nginx", 'if ($http_x_key != "k") { return 403; }', "some requests only: if $http_x_key != k"),
    ("nginx", f'location = /index.php {{ if ($http_x_key = "") {{ return 444; }} {PASS} }}', 'only: if $http_x_key = ""'),
    ("nginx", 'if ($http_authorization !~ "^Bearer") { return 401; }', "some requests only"),
    ("nginx", 'if ($http_x_key = "k") { return 403; }', ""),
    ("nginx", "if ($http_x_key) { return 403; }", ""),
    ("nginx", 'if ($http_x_forwarded_proto = "") { return 403; }', ""),
    ("nginx", 'if ($http_x_key != "k") { set $known 0; }', ""),
    ("apache2", "Require env inside", "some requests only: Require env inside"),
    ("apache2", "Require expr %{HTTP_HOST} == 'x'", "some requests only: Require expr"),
    ("apache2", "<If \"%{REQUEST_URI} =~ m#^/x#\">\nRequire all denied\n</If>", "Require all denied in <If %{REQUEST_URI}"),
    ("apache2", "<If \"%{REQUEST_URI} =~ m#^/x#\">\nRequire all granted\n</If>", ""),
    ("apache2", "<RequireAll>\nRequire all granted\nRequire not env bad\n</RequireAll>", ""),
    ("apache2", "<RequireAny>\nRequire env inside\nRequire all granted\n</RequireAny>", ""),
    ("apache2", "Require valid-user", ""),
]  # fmt: skip


@pytest.mark.parametrize(("server", "lines", "said"), DEPENDING)
def test_who_may_come_depends_on_the_request(tmp_path: Path, server: str, lines: str, said: str) -> None:
    apache = APACHE.format("", f"{INDEXED}\n<Directory /srv/a>\n{lines}\n</Directory>")
    text = NGINX.format("", f"index index.php;\n{lines}\n{LOCATION}") if server == "nginx" else apache
    survey = look(small_root(tmp_path, extra=configured(server, text)))
    (php,) = [f for f in check(needs(), survey, "a.example").findings if f.need.kind == "php"]
    assert php.verdict == ("unknown" if said else "met")
    assert said in (php.found or "") and ("some requests" in (php.found or "")) == bool(said)


AWAY = [  # in a host of Apache's that is called a.example, and whether every visitor is sent to another server
    ("Redirect permanent / https://b.example/", True),
    ("Redirect / https://b.example:8443/x", True),
    ("RedirectMatch 301 ^(.*)$ https://b.example$1", True),
    ("RewriteEngine On\nRewriteRule ^(.*)$ https://b.example$1 [R=301,L]", True),
    (
        "RewriteEngine On\nRewriteRule ^/\\.well-known/ - [L]\nRewriteRule ^ https://b.example%{REQUEST_URI} [R,L]",
        True,
    ),
    ("RewriteRule ^ https://b.example/ [R]", False),
    ("RewriteEngine On\nRewriteCond %{HTTPS} off\nRewriteRule ^ https://b.example%{REQUEST_URI} [R]", False),
    ("RewriteEngine On\nRewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R]", False),
    ("RewriteEngine On\nRewriteRule ^/old https://b.example/ [R]", False),
    ("Redirect permanent / https://a.example/", False),
    ("Redirect permanent /old https://b.example/", False),
    ("Redirect permanent / /new/", False),
]


@pytest.mark.parametrize(("lines", "away"), AWAY)
def test_every_visitor_is_sent_to_another_server(tmp_path: Path, lines: str, away: bool) -> None:
    survey = look(small_root(tmp_path, extra=configured("apache2", APACHE.format("", f"{INDEXED}\n{lines}"))))
    php = check(needs(), survey, "a.example").findings[0]
    assert ("sends visitors of all of it to b.example" in (php.found or "")) is away
    assert (php.verdict == "unmet") is away
