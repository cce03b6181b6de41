"""What a survey tells of addresses: the cases that real servers have answered (``tests/real/test_visits.py``)."""

import tempfile
from collections.abc import Iterable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds import asked_by
from fundamentum.model.survey import Site
from fundamentum.needs.file import parse
from fundamentum.survey.observe import survey
from fundamentum.untrusted.patterns import search
from fundamentum.webservers import webserver
from fundamentum.webservers.base import NewSite
from fundamentum.webservers.sites import probe
from tests.examples import examples
from tests.small_root import small_root

from .cases import CASES, PATHS, files, told

WANTED = """
format = 1
[application]
name = "nightlog"
[web]
front_controller = "front.php"
deny = ["config"]
"""
APACHE = """\
LoadModule rewrite_module modules/mod_rewrite.so
LoadModule autoindex_module modules/mod_autoindex.so
<Directory />
    Options FollowSymLinks
    AllowOverride None
    Require all denied
</Directory>
AccessFileName .htaccess
IncludeOptional sites-enabled/*.conf
"""


def sites(root: Path, server: str, extra: Iterable[tuple[str, str]] = ()) -> dict[str, Site]:
    for name, content in [*files(server, "8.2", 80), ("/etc/apache2/apache2.conf", APACHE), *extra]:
        path = root / name.lstrip("/")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(content)
    return {site.name: site for site in probe(DirectoryHost(root, "vega"), [], list(PATHS.values())).served}


@pytest.mark.parametrize("server", list(CASES))
def test_each_case_is_judged(server: str, tmp_path: Path) -> None:
    wanted = parse(WANTED, "f")
    made = dict([*files(server, "8.2", 80), ("/etc/apache2/apache2.conf", APACHE)])
    root = small_root(tmp_path, extra={path.lstrip("/"): text for path, text in made.items()})
    surveyed = survey(DirectoryHost(root, "vega"), asked_by([wanted]))
    for site in surveyed.sites:
        findings = check(wanted, surveyed, site.name).findings  # held as a whole: see tests/whole_results.py
        assert {finding.need.kind for finding in findings} == {"php", "web"}


@pytest.mark.parametrize("server", list(CASES))
def test_each_case_is_told_as_the_real_server_answers(server: str, tmp_path: Path) -> None:
    found = sites(tmp_path, server)
    said, expected = {}, {}
    for number, (name, case) in enumerate(CASES[server].items()):
        visits, unclear = found[f"visit{number}"].visits, case.get("unclear", [])
        said[name] = {what: told(visits[path]) for what, path in PATHS.items()}
        expected[name] = {what: "unclear" if what in unclear else case[what] for what in PATHS}
    assert said == expected


@pytest.mark.parametrize(
    ("server", "line"),
    [
        ("nginx", "location ^~ /config { proxy_pass http://127.0.0.1:9; }"),
        ("nginx", "location ^~ /config { alias /srv/elsewhere/; }"),
        ("nginx", "location ^~ /config { auth_basic x; }"),
        ("nginx", "location ~ ^/((a+)+)+config { deny all; }"),
        ("nginx", "rewrite ^/config http://elsewhere.example/;"),
        ("apache", "Alias /config /srv/elsewhere"),
        ("apache", "Redirect /config http://elsewhere.example/"),
        ("apache", "<Location /config>\nRequire valid-user\n</Location>"),
        *(
            ("apache", f"<Location /config>\n<{around}>\nRequire all denied\n</{around.split()[0]}>\n</Location>")
            for around in ("RequireNone", "IfVersion > 2.4")
        ),
        *(
            ("apache", f"<Location /config>\nRequire all denied\n{line}\n</Location>")
            for line in ("AuthMerging And", "Satisfy Any\nDeny from all")
        ),
        *(("apache", f'<{name} "true">\nRequire all denied\n</{name}>') for name in ("If", "ElseIf", "Else")),
        *(
            ("apache", f"{line} /srv/elsewhere")
            for line in (
                "AliasMatch ^/config",
                "ScriptAlias /config",
                "ProxyPass /config",
                "ProxyPassMatch ^/config",
                "RedirectMatch ^/config",
            )
        ),
        ("apache", "Use Hidden"),
        ("apache", "RewriteEngine On\nRewriteCond %{ENV:x} y\nRewriteRule ^/config /front.php"),
        ("apache", "RewriteEngine On\nRewriteRule ^/config http://elsewhere.example/ [R]"),
    ],
)
def test_what_is_not_followed_is_unclear(server: str, line: str, tmp_path: Path) -> None:
    path = "/etc/nginx/nginx.conf" if server == "nginx" else "/etc/apache2/sites-enabled/all.conf"
    text = dict(files(server, "8.2", 80))[path].replace("server_name visit0;", f"server_name visit0;\n{line}")
    text = text.replace("ServerName visit0\n", f"ServerName visit0\n{line}\n")
    assert sites(tmp_path, server, [(path, text)])["visit0"].visits["/config/"].outcome == "unclear"


@given(st.text("ab()|*+?.^$[]\\{}1,", max_size=30))
def test_a_pattern_is_tried_in_no_time(pattern: str) -> None:
    search(pattern, "ab" * 20 + "c")


@pytest.mark.parametrize(
    "pattern",
    ["(a+)+$", "(a|a)*$", "((a*)b)*", "(x", "a" * 501, ".*.*.*.*.*b", "a?" * 30, "(a|a)" * 30, "(a??){9}", "(|a)" * 30],
)
def test_a_pattern_that_might_take_long_is_not_tried(pattern: str) -> None:
    assert search(pattern, "aaa") is None


@pytest.mark.parametrize(
    "pattern", ["^/srv/.*/public/$", r"\.(?:jpe?g|png|gif)$|/public/", "^/(?:srv|home)/[^/]+(/.*)?$"]
)
def test_a_pattern_as_it_is_used_is_tried_on_a_path_as_it_is_used(pattern: str) -> None:
    assert search(pattern, "/srv/observatory/archive-of-photographic-plates/releases/current/public/")


def test_one_that_repeats_is_tried_on_short_texts_only() -> None:
    assert search("^/.*/.*/.*a", "/x/y/za")
    assert search("^/.*/.*/.*a", f"/{'x/' * 60}za") is None


PARTS = st.lists(
    st.from_regex(r"[a-z.+-][a-z0-9.+_-]{0,5}", fullmatch=True).filter(lambda name: name.strip(".")),
    min_size=1,
    max_size=2,
)


@pytest.mark.parametrize("server", ["nginx", "apache2"])
@given(
    denied=st.lists(PARTS.map("/".join), max_size=3, unique=True),
    front=st.sampled_from(["", "index.php", "app/front.php"]),
)
@settings(max_examples=examples(20), deadline=None)
def test_a_new_site_is_read_as_it_was_planned(server: str, denied: list[str], front: str) -> None:
    new = NewSite("new.example", "/srv/new", "unix:/run/php/x.sock", front, tuple(denied), (), ("127.0.0.1:80",))
    folder = "nginx/conf.d" if server == "nginx" else "apache2/sites-enabled"
    content = "\n".join(webserver(server).new_site(new)) + "\n"
    with tempfile.TemporaryDirectory() as root:
        for name, text in (
            (f"etc/{folder}/new.conf", content),
            ("etc/nginx/nginx.conf", "events {}\nhttp { include conf.d/*.conf; }\n")
            if server == "nginx"
            else ("etc/apache2/apache2.conf", APACHE),
        ):
            path = Path(root, name)
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text)
        paths = [f"/{path}/" for path in denied]
        (site,) = probe(DirectoryHost(Path(root), "vega"), [], [*paths, *PATHS.values(), "=/.hidden"]).served
    assert (site.name, site.root, site.handler) == ("new.example", "/srv/new", "unix:/run/php/x.sock")
    assert all(site.visits[path].outcome == "refused" for path in [*paths, "=/.hidden"])
    assert site.visits[PATHS["page"]].script == (f"/{front}" if front else "")
    assert site.visits[PATHS["list"]].outcome in ("refused", "missing")


def test_a_pattern_that_python_wonders_about_says_nothing(recwarn: pytest.WarningsRecorder) -> None:
    assert search("[[a-z&&b]", "b")
    assert not recwarn.list


GRANTED, DENIED, ELSEWHERE = "Require all granted\n", "Require all denied\n", "Require ip 192.0.2.1\n"


@pytest.mark.parametrize(
    ("rules", "outcome"),
    [
        (f"<RequireAll>\n{DENIED}</RequireAll>\n", "refused"),
        (f"<RequireAny>\n{DENIED}</RequireAny>\n", "refused"),
        (f"<RequireAny>\n{DENIED}{GRANTED}</RequireAny>\n", "handed-out"),
        (f"<RequireAll>\n{DENIED}{GRANTED}</RequireAll>\n", "refused"),
        (f"<RequireAll>\n{GRANTED}Require not ip 192.0.2.1\n</RequireAll>\n", "handed-out"),
        (f"<RequireAll>\n{GRANTED}<RequireNone>\n{GRANTED}</RequireNone>\n</RequireAll>\n", "refused"),
        (
            f"<RequireAll>\n{GRANTED}<RequireAny>\n{ELSEWHERE}Require valid-user\n</RequireAny>\n</RequireAll>\n",
            "unclear",
        ),
        (f"<RequireAll>\n{ELSEWHERE}Require valid-user\n</RequireAll>\n", "refused"),
        (f"<Limit GET>\n{DENIED}</Limit>\n", "refused"),
        (f"<Limit POST>\n{DENIED}</Limit>\n", "handed-out"),
        (f"<LimitExcept POST>\n{DENIED}</LimitExcept>\n", "refused"),
        (f"<LimitExcept GET POST>\n{DENIED}</LimitExcept>\n", "handed-out"),
        ("Require method POST\n", "refused"),
        ("Require method GET POST\n", "handed-out"),
        ("Require not method GET\n", "refused"),
    ],
)
def test_who_is_let_in_by_apache(rules: str, outcome: str, tmp_path: Path) -> None:
    path = "/etc/apache2/sites-enabled/all.conf"
    line = f"<Location /config>\n{rules}</Location>"
    text = dict(files("apache", "8.2", 80))[path].replace("ServerName visit0\n", f"ServerName visit0\n{line}\n")
    assert sites(tmp_path, "apache", [(path, text)])["visit0"].visits["/config/"].outcome == outcome
