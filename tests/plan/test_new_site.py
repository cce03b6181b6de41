"""A site that is set up for an application: behind which web server, on which PHP, and what its file says."""

from pathlib import Path

import pytest
from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.database import PrepareDatabase
from fundamentum.changes.file_operations import WriteFile
from fundamentum.changes.pool import AddPool
from fundamentum.changes.site import AddSite
from fundamentum.effective.fresh_runtime import fresh_runtime
from fundamentum.errors import FundamentumError
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds import asked_by
from fundamentum.model.findings import Target
from fundamentum.model.survey import Survey
from fundamentum.plan.made_plan import Plan
from fundamentum.plan.new_site import changes, wanted, with_web
from fundamentum.plan.planner import plan
from fundamentum.platforms.offers import Offers
from fundamentum.report.plans.json import plan_document
from fundamentum.report.plans.playbook import as_playbook
from fundamentum.report.plans.script import as_script
from fundamentum.survey.observe import survey
from tests.around import MORE, NGINX, USERS, needs
from tests.small_root import TODAY, small_root, write

SERVERS = "".join(
    f"\nPackage: {name}\nVersion: {version}\nArchitecture: amd64\nSection: httpd\n"
    for name, version in (("nginx", "1.22.1-9"), ("apache2", "2.4.62-1"))
)
APPLICATION = """\
[uploads]
largest = "20M"
[directories.required]
var = "writable"
[web]
document_root = "public"
front_controller = "index.php"
modules = ["rewrite"]
deny = ["config", "public/private.d"]
"""
APACHE: dict[str, str | bytes] = {
    "etc/apache2/apache2.conf": "IncludeOptional mods-enabled/*.load\nIncludeOptional sites-enabled/*.conf\n",
    "etc/apache2/mods-available/rewrite.load": "",
    "etc/apache2/mods-enabled/mpm_event.load": "",
}
OTHER = (
    "server { server_name a.example; root /srv/a; location ~ \\.php$ { fastcgi_pass unix:/run/php/php8.2-fpm.sock; } }"
)


def server(root: Path, files: dict[str, str | bytes], tables: str = APPLICATION) -> Survey:
    small_root(root, index=MORE + SERVERS, extra={**USERS, "etc/slit/none": "", **files})
    asked = asked_by([with_web(needs(tables))], directory="/srv/nightlog")
    return survey(DirectoryHost(root, "mizar"), asked)


def made(surveyed: Survey, tables: str = APPLICATION, name: str = "nightlog.example", named: str | None = None) -> Plan:
    application = with_web(needs(tables))
    site = wanted(surveyed, application, name, "/srv/nightlog/", named, Offers(surveyed))
    return plan([application], surveyed, today=TODAY, site=site)


def only(plan: Plan, kind: type[Change]) -> Change:
    (change,) = (change for change in plan.changes if isinstance(change, kind))
    return change


def content(plan: Plan) -> str:
    return next(
        s.operation.content for s in plan.steps if isinstance(s.operation, WriteFile) and "example" in s.operation.path
    )


def test_nothing_there(tmp_path: Path) -> None:
    planned = made(server(tmp_path, {}))
    assert planned.complete and [row["install"] for row in _rows(planned, "packages")] == ["nginx"]
    site, pool = only(planned, AddSite), only(planned, AddPool)
    assert isinstance(site, AddSite) and isinstance(pool, AddPool)
    assert (site.file, site.link, site.runtime) == (
        "/etc/nginx/sites-available/nightlog.example.conf",
        "/etc/nginx/sites-enabled/nightlog.example.conf",
        "8.2/fpm/nightlog",
    )
    text = content(planned)
    for line in (
        "root /srv/nightlog/public;",
        "client_max_body_size 21m;",
        "try_files $uri $uri/ /index.php$is_args$args;",
        'location ~ "^/(?:private\\.d)(?:/|$)" { return 404; }',
        "fastcgi_pass unix:/run/php/php8.2-fpm-nightlog.sock;",
        "listen [::]:80;",
    ):
        assert line in text, line
    assert "\nHand" not in as_script(planned) and "decide" not in as_script(planned)
    assert "nightlog.example" in as_playbook(planned)
    document = plan_document(planned)
    assert [planned_site.root for planned_site in document.sites] == ["/srv/nightlog/public"]
    assert any("http://nightlog.example/" in hint for hint in document.hints)
    assert [(service.name, service.action) for service in document.services] == [
        ("php8.2-fpm", "restart"),
        ("nginx", "start"),
    ]


def test_nothing_is_set_up_on_a_php_that_is_not_accepted(tmp_path: Path) -> None:
    planned = made(server(tmp_path, {}), '[php]\nversion = "<7.0"\n' + APPLICATION)
    assert not planned.changes and not planned.hints and not planned.complete
    assert {unresolved.need for unresolved in planned.unresolved} >= {"php", "web:served"}


def _rows(plan: Plan, table: str) -> list[dict[str, object]]:
    return [change.row() for change in plan.changes if table == change.FILLS]


def test_behind_an_apache_that_is_there(tmp_path: Path) -> None:
    planned = made(server(tmp_path, APACHE))
    assert planned.complete and not _rows(planned, "packages")
    assert [row["on"] for row in _rows(planned, "modules")] == [["proxy_fcgi"], ["rewrite"]]
    text = content(planned)
    assert 'SetHandler "proxy:unix:/run/php/php8.2-fpm-nightlog.sock|fcgi://localhost"' in text
    assert "FallbackResource /index.php" in text and "Options -Indexes" in text
    assert text.count("<VirtualHost *:80>") == 2, "where there was no section, the main server stays the first"


def test_a_section_for_the_main_server_only_where_there_is_no_other(tmp_path: Path) -> None:
    static = {"etc/apache2/sites-enabled/a.conf": "<VirtualHost *:80>\nServerName a\n</VirtualHost>\n"}
    assert content(made(server(tmp_path, {**APACHE, **static}))).count("<VirtualHost *:80>") == 1


def test_what_all_sites_are_allowed_is_raised_for_the_new_one(tmp_path: Path) -> None:
    handler = 'SetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"'
    host = f"<VirtualHost *:80>\nServerName a.example\nDocumentRoot /srv/a\n{handler}\n</VirtualHost>\n"
    size = "LimitRequestBody 1000000\nSecRuleEngine On\nSecRequestBodyAccess On\nSecRequestBodyLimit 2000000\n"
    main = str(APACHE["etc/apache2/apache2.conf"]).replace("\n", f"\n{size}", 1)
    files: dict[str, str | bytes] = {"etc/apache2/apache2.conf": main, "etc/apache2/sites-enabled/a.conf": host}
    planned = made(server(tmp_path, {**APACHE, **files}))
    assert planned.complete
    assert "LimitRequestBody 22020096" in content(planned) and "SecRequestBodyLimit 22020096" in content(planned)
    inspected = "http { modsecurity on; modsecurity_rules_file /etc/nginx/rules.conf;"
    rules = "SecRuleEngine On\nSecRequestBodyLimitAction Reject\nSecRequestBodyLimit 2000000\n"
    nginx: dict[str, str | bytes] = {
        "etc/nginx/nginx.conf": NGINX.replace("http {", inspected, 1),
        "etc/nginx/rules.conf": rules,
    }
    by_hand = made(server(tmp_path / "c", {**nginx, "etc/nginx/sites-enabled/a": OTHER}), named="nginx")
    assert "SecRequestBodyLimit" not in content(by_hand) and not by_hand.complete
    assert any("/etc/nginx/rules.conf:3" in str(unresolved) for unresolved in by_hand.unresolved)
    nginx = {"etc/nginx/nginx.conf": NGINX.replace("http {", "http { client_max_body_size 30m;", 1)}
    several = made(server(tmp_path / "b", {**nginx, "etc/nginx/sites-enabled/a": OTHER}), named="nginx")
    assert "client_max_body_size" not in content(several)


def test_where_apache_has_php_inside_it_that_stays_so(tmp_path: Path) -> None:
    inside: dict[str, str | bytes] = {
        **APACHE,
        "etc/apache2/mods-enabled/php8.2.load": "LoadModule php_module /usr/lib/apache2/modules/libphp8.2.so\n",
        "usr/lib/apache2/modules/libphp8.2.so": b"\x7fELF X-Powered-By: PHP/8.2.9\0",
        "etc/php/8.2/apache2/php.ini": "",
    }
    planned = made(server(tmp_path, inside))
    site = only(planned, AddSite)
    assert isinstance(site, AddSite) and site.runtime == "8.2/apache2" and "SetHandler" not in content(planned)
    assert not any(isinstance(change, AddPool) for change in planned.changes)


def test_others_keep_what_they_have(tmp_path: Path) -> None:
    planned = made(server(tmp_path, {"etc/nginx/nginx.conf": NGINX, "etc/nginx/sites-enabled/a": OTHER}))
    assert planned.complete and planned.others == () and not _rows(planned, "packages")


@pytest.mark.parametrize(
    ("listen", "lines"),
    [
        ("80", ["listen 80;"]),
        ("80; listen [::]:80", ["listen 80;", "listen [::]:80;"]),
        ("192.0.2.1:80", ["listen 192.0.2.1:80;"]),
        ("[2001:db8::1]:80", ["listen [2001:db8::1]:80;"]),
        ("8080", []),
    ],
)
def test_it_waits_where_others_do(listen: str, lines: list[str], tmp_path: Path) -> None:
    other = OTHER.replace("server_name", f"listen {listen}; server_name")
    surveyed = server(tmp_path, {"etc/nginx/nginx.conf": NGINX, "etc/nginx/sites-enabled/a": other})
    if not lines:
        with pytest.raises(FundamentumError, match="not at port 80"):
            made(surveyed)
        return
    assert [line.strip() for line in content(made(surveyed)).splitlines() if "listen " in line] == lines


@pytest.mark.parametrize(("other", "name"), [("a", "nightlog.example.conf"), ("z", "zz-nightlog.example.conf")])
def test_the_first_site_stays_the_first(other: str, name: str, tmp_path: Path) -> None:
    surveyed = server(tmp_path, {"etc/nginx/nginx.conf": NGINX, f"etc/nginx/sites-enabled/{other}": OTHER})
    site = only(made(surveyed), AddSite)
    assert isinstance(site, AddSite) and site.link == f"/etc/nginx/sites-enabled/{name}"


def test_where_there_is_no_place_for_links(tmp_path: Path) -> None:
    surveyed = server(tmp_path, {"etc/nginx/nginx.conf": NGINX.replace("sites-enabled/*", "conf.d/*.conf")})
    site = only(made(surveyed), AddSite)
    assert isinstance(site, AddSite) and (site.file, site.link) == ("/etc/nginx/conf.d/nightlog.example.conf", "")


def test_a_branch_can_be_named(tmp_path: Path) -> None:
    surveyed = server(tmp_path, {})
    application = with_web(needs(""))
    site = wanted(surveyed, application, "n.example", "/srv/n", None, Offers(surveyed))
    for selector in ("8.2", "8.2/fpm"):
        assert (
            plan([application], surveyed, selector, today=TODAY, site=site).applications[0].runtime
            == "8.2/fpm/nightlog"
        )
    with pytest.raises(FundamentumError, match="no PHP is here or offered"):
        plan([application], surveyed, "8", today=TODAY, site=site)


def test_without_a_word_about_the_web_server(tmp_path: Path) -> None:
    planned = made(server(tmp_path, {}), "")
    assert planned.complete and "try_files $uri $uri/ =404;" in content(planned)
    assert "client_max_body_size 8m;" in content(planned), "as PHP's own post_max_size"


def test_a_database_and_its_user(tmp_path: Path) -> None:
    tables = '[database]\nrequired = ["mariadb"]\nname = "night_log"\ncharacter_set = "utf8mb4"\n'
    planned = made(server(tmp_path, {}, tables), tables)
    assert planned.complete
    change = only(planned, PrepareDatabase)
    assert isinstance(change, PrepareDatabase) and change.password_file == "/root/night_log.database-password"
    assert ("mariadb", "start") in [(row["name"], row["action"]) for row in _rows(planned, "services")]
    assert "make_database mariadb night_log utf8mb4 /root/night_log.database-password made nightlog" in as_script(
        planned
    )
    given = replace(change, given="/etc/secret")
    assert "is read from /etc/secret" in given.effect and "night\\_log" in given.words(Offers(server(tmp_path, {})))


@pytest.mark.parametrize(
    ("files", "name", "named", "words"),
    [
        ({}, "night log", None, "no host name"),
        ({}, "nightlog.example", "lynx", "none that is known here: nginx, apache"),
        (APACHE, "nightlog.example", "nginx", "nginx is not here; Apache is"),
        ({**APACHE, "etc/nginx/nginx.conf": NGINX}, "nightlog.example", None, "several web servers are here"),
        ({"etc/nginx/nginx.conf": NGINX, "etc/nginx/sites-enabled/n.conf": "server { }"}, "n", None, "there already"),
    ],
)
def test_what_is_not_possible_is_said(
    files: dict[str, str | bytes], name: str, named: str | None, words: str, tmp_path: Path
) -> None:
    surveyed = server(tmp_path, files)
    with pytest.raises(FundamentumError, match=words):
        made(surveyed, name=name, named=named)


def test_a_file_that_is_there_is_left_alone(tmp_path: Path) -> None:
    write(tmp_path, {"etc/nginx/sites-available/n.conf": "server { server_name n; root /srv/n; }"})
    (tmp_path / "etc/nginx/sites-enabled").mkdir()
    (tmp_path / "etc/nginx/sites-enabled/n.conf").symlink_to("../sites-available/n.conf")
    surveyed = server(tmp_path, {"etc/nginx/nginx.conf": NGINX})
    with pytest.raises(FundamentumError, match="there already"):
        made(surveyed, name="n")


SHARED = """\
server { server_name a.example; root /srv/a;
location ~ \\.php$ {
    fastcgi_pass unix:/run/php/php8.2-fpm.sock;
} }
server { server_name b.example; root /srv/b;
location ~ \\.php$ {
    fastcgi_pass unix:/run/php/php8.2-fpm.sock;
} }
"""
ONCE = "upstream php { server unix:/run/php/php8.2-fpm.sock; }\n" + SHARED.replace(
    "unix:/run/php/php8.2-fpm.sock", "php"
)


@pytest.mark.parametrize(("nginx", "moved"), [(SHARED, True), (ONCE, False)])
def test_a_site_moves_to_its_new_pool_where_a_line_of_its_own_hands_it_on(
    nginx: str, moved: bool, tmp_path: Path
) -> None:
    wide = needs('[settings.required]\nmemory_limit = ">= 2G"\n', "platevault")
    narrow = needs('[settings.required]\nmemory_limit = ">= 200M"\n')
    surveyed = server(tmp_path, {"etc/nginx/nginx.conf": NGINX, "etc/nginx/sites-enabled/both": nginx}, "")
    made = plan([narrow, wide], surveyed, ["a.example", "b.example"], today=TODAY)
    script = as_script(made)
    assert ("decide: let the web server use" in script) == (not moved)
    if moved:
        assert made.complete
        (edit,) = made.edits
        assert "@@ -7 +7 @@" in edit.diff and "+    fastcgi_pass unix:/run/php/php8.2-fpm-platevault.sock;" in edit.diff
        assert made.others == ()


def test_on_the_red_hat_family_the_file_alone_counts(tmp_path: Path) -> None:
    surveyed = server(tmp_path, APACHE, "")
    surveyed = replace(
        surveyed, system=replace(surveyed.system, family="redhat"), web_servers=None, runtimes=(), branches=()
    )
    application = with_web(needs(""))
    site = wanted(surveyed, application, "nightlog.example", "/srv/nightlog", "apache", Offers(surveyed))
    runtime = fresh_runtime(surveyed, "8.2", "fpm")
    runtime = replace(runtime, listen="/run/php-fpm/www.sock", pool_dir="/etc/php-fpm.d")
    added = list(changes(site, application, Target(runtime, ""), surveyed, Offers(surveyed)))
    place = Place(surveyed, Offers(surveyed).platform, "nightlog")
    operations = [operation for change in added for operation in change.lowered(place)]
    texts = {primitive.path: primitive.content for primitive in operations if isinstance(primitive, WriteFile)}
    assert list(texts) == ["/etc/php-fpm.d/nightlog.conf", "/etc/httpd/conf.d/nightlog.example.conf"]
    assert "listen.acl_users = apache,nginx" in texts["/etc/php-fpm.d/nightlog.conf"]
    assert "proxy:unix:/run/php-fpm/php8.2-fpm-nightlog.sock|" in texts["/etc/httpd/conf.d/nightlog.example.conf"]
    assert [operation.KIND for operation in operations] == ["file", "file"]
