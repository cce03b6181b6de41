"""Web servers' configuration: which site leads to which runtime.  tests/real asks real servers."""

from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.check.judged_runtime import choose
from fundamentum.errors import FundamentumError, HostError
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.windows_directory import WindowsHost
from fundamentum.model.needs import Needs
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers
from fundamentum.survey.observe import survey
from fundamentum.webservers.apache2 import reading as apache
from fundamentum.webservers.iis import reading as iis
from fundamentum.webservers.nginx import reading as nginx
from fundamentum.webservers.sites import probe
from tests.small_root import small_root, write

SOCKET = "unix:/run/php/php8.2-fpm.sock"
VIRTUAL = "<VirtualHost *:80>\nServerName a.example\nDocumentRoot /srv/a\n{}\n</VirtualHost>\n"
HANDLER = f'SetHandler "proxy:{SOCKET}|fcgi://localhost"'
WHOLE = ("a.example", None, "8.2/fpm/www")
NGINX = "http {{ server {{ server_name a.example; root /srv/a; {} }} }}"
Row = tuple[str, str | None, str | None]
CASES: list[tuple[str, str, list[Row]]] = [  # server, configuration, (site, part, runtime)
    ("nginx", NGINX.format(f"location ~ \\.php$ {{ fastcgi_pass {SOCKET}; }}"), [WHOLE]),
    ("nginx", NGINX.format(f"location ~ [^/]\\.php(/|$) {{ fastcgi_pass {SOCKET}; }}"), [WHOLE]),
    ("nginx", NGINX.format(f"location / {{ fastcgi_pass {SOCKET}; }}"), [WHOLE]),
    (
        "nginx",
        NGINX.format(f"location ^~ /log/ {{ location ~ \\.php$ {{ fastcgi_pass {SOCKET}; }} }}"),
        [("a.example", "^~ /log/", "8.2/fpm/www")],
    ),
    ("nginx", NGINX.format(f"set $to {SOCKET}; location / {{ fastcgi_pass $to; }}"), [WHOLE]),
    ("nginx", NGINX.format("location / { fastcgi_pass $unknown; }"), [("a.example", None, None)]),
    ("nginx", NGINX.format("location / { fastcgi_pass 127.0.0.1:9000; }"), [("a.example", None, "8.2/fpm/port")]),
    ("nginx", NGINX.format("location / { fastcgi_pass 127.0.0.1:9001; }"), [("a.example", None, None)]),
    ("nginx", "upstream u { server " + SOCKET + "; }" + NGINX.format("location / { fastcgi_pass u; }"), [WHOLE]),
    ("nginx", NGINX.format("include extra/*.conf;"), [WHOLE]),
    ("nginx", NGINX.format("# fastcgi_pass x;\nlocation / { return 200 'fastcgi_pass y;'; }"), []),
    ("nginx", "http { server { location / { fastcgi_pass " + SOCKET + "; } } }", [("default", None, "8.2/fpm/www")]),
    ("apache2", VIRTUAL.format(f'<FilesMatch "\\.php$">\n{HANDLER}\n</FilesMatch>'), [WHOLE]),
    ("apache2", f"<FilesMatch .+\\.ph(p|tml)$>\n{HANDLER}\n</FilesMatch>\n" + VIRTUAL.format(""), [WHOLE]),
    ("apache2", f'{HANDLER}\nDocumentRoot "/srv/a"\n', [("default", None, "8.2/fpm/www")]),
    ("apache2", VIRTUAL.format(f"<Directory /srv/a>\n{HANDLER}\n</Directory>"), [WHOLE]),
    (
        "apache2",
        VIRTUAL.format(f"<Directory /srv/a/log>\n{HANDLER}\n</Directory>"),
        [("a.example", "/srv/a/log", "8.2/fpm/www")],
    ),
    ("apache2", VIRTUAL.format(f"<Directory /srv/b>\n{HANDLER}\n</Directory>"), []),
    ("apache2", VIRTUAL.format(f"<Location /log>\n{HANDLER}\n</Location>"), [("a.example", "/log", "8.2/fpm/www")]),
    ("apache2", VIRTUAL.format(f'ProxyPassMatch "^/(.*\\.php)$" "{SOCKET}|fcgi://localhost/srv/a"'), [WHOLE]),
    ("apache2", VIRTUAL.format('ProxyPass "/" "fcgi://127.0.0.1:9000/srv/a/"'), [("a.example", None, "8.2/fpm/port")]),
    ("apache2", VIRTUAL.format(f"<IfModule mod_absent.c>\n{HANDLER}\n</IfModule>"), []),
    ("apache2", VIRTUAL.format(f"<IfModule !mod_absent.c>\n{HANDLER}\n</IfModule>"), [WHOLE]),
    ("apache2", VIRTUAL.format(f"<IfDefine !X>\n<IfModule mod_absent.c>\n{HANDLER}\n</IfModule>\n</IfDefine>"), []),
    (
        "apache2",
        "LoadModule proxy_module x.so\n" + VIRTUAL.format(f"<IfModule proxy_module>\n{HANDLER}\n</IfModule>"),
        [WHOLE],
    ),
    (
        "apache2",
        "Define SOCK /run/php/php8.2-fpm.sock\n" + VIRTUAL.format('SetHandler \\\n  "proxy:unix:${SOCK}|fcgi://x"'),
        [WHOLE],
    ),
    ("apache2", VIRTUAL.format("Include extra/apache.conf"), [WHOLE]),
    ("apache2", VIRTUAL.format("#" + HANDLER), []),
    ("apache2", VIRTUAL.format(f"<FilesMatch \\.php$>\n{HANDLER}\n</FilesMatch>") * 2, [WHOLE]),
]


def root_with(folder: Path, server: str, text: str) -> Path:
    main = "etc/nginx/nginx.conf" if server == "nginx" else "etc/apache2/apache2.conf"
    extra: dict[str, str | bytes] = {
        main: text,
        "etc/nginx/extra/a.conf": f"location / {{ fastcgi_pass {SOCKET}; }}",
        "etc/apache2/extra/apache.conf": HANDLER + "\n",
        "etc/php/8.2/fpm/pool.d/port.conf": "[port]\nlisten = 9000\n",
    }
    return small_root(folder, extra=extra)


def look(root: Path) -> Survey:
    return survey(DirectoryHost(root, "mizar"))


@pytest.mark.parametrize(("server", "text", "rows"), CASES)
def test_sites(tmp_path: Path, server: str, text: str, rows: list[Row]) -> None:
    surveyed = look(root_with(tmp_path, server, text))
    assert [(site.name, site.part, site.runtime) for site in surveyed.sites] == rows
    assert all(site.server == server for site in surveyed.sites)
    leading = {runtime for _, _, runtime in rows if runtime}
    if leading:
        assert {runtime.label for runtime in surveyed.runtimes if runtime.serves} == leading
    if any(runtime is None for _, _, runtime in rows):
        assert "which is no runtime seen here" in surveyed.remarks[-1].why


def test_a_site_can_be_named_instead_of_a_runtime(tmp_path: Path) -> None:
    text = NGINX.format(
        f"location / {{ fastcgi_pass {SOCKET}; }} location ^~ /plates/ {{ fastcgi_pass 127.0.0.1:9000; }}"
    )
    surveyed = look(root_with(tmp_path, "nginx", text.replace("a.example", "a.example b.example")))

    def chosen(selector: str) -> str:
        return choose(surveyed, Needs("nightlog"), selector, Offers(surveyed)).runtime.label

    assert (chosen("a.example"), chosen("b.example"), chosen("a.example ^~ /plates/")) == (
        "8.2/fpm/www",
        "8.2/fpm/www",
        "8.2/fpm/port",
    )
    with pytest.raises(FundamentumError, match=r"the name of a web site here \(a\.example\)"):
        chosen("c.example")


WORDS = [
    *"{};#\"'\\\n <>/$",
    "server",
    "location",
    "fastcgi_pass x",
    "include *",
    "include nginx.conf",
    "<VirtualHost>",
    "</VirtualHost>",
    "<IfModule",
    "SetHandler",
    "Include",
    "Define A ${A}",
    "proxy:unix:/x|fcgi://y",
    "<add",
    "\0",
    "é",
]


@given(st.lists(st.sampled_from(WORDS), max_size=40).map(" ".join) | st.text(max_size=100))
def test_any_text_gives_handoffs_or_remarks(tmp_path_factory: pytest.TempPathFactory, text: str) -> None:
    folder = tmp_path_factory.mktemp("any")
    data = text.encode("utf-8", "replace")
    main = "Windows/System32/inetsrv/config/applicationHost.config"
    write(folder, {"etc/nginx/nginx.conf": data, "etc/apache2/apache2.conf": data, main: data})
    host = DirectoryHost(folder, "any")
    for reader, of in ((nginx.read, host), (apache.read, host), (iis.read, WindowsHost(folder, "any"))):
        with suppress(HostError):  # files that include themselves have no end, which becomes a remark
            handoffs, files, _ = reader(of)
            assert len(handoffs) <= 100
            assert len(files) <= 3000


FPM_HOST = VIRTUAL.format('<FilesMatch "\\.php$">\n' + HANDLER + "\n</FilesMatch>\n{}")
LIMITS: list[tuple[str, dict[str, str]]] = [  # Apache's configuration, what is allowed the site
    (FPM_HOST.format(""), {"LimitRequestBody": "", "ProxyTimeout": "60"}),
    ("Timeout 300\n" + FPM_HOST.format(""), {"LimitRequestBody": "", "ProxyTimeout": "300"}),
    ("Timeout 300\nProxyTimeout 90\n" + FPM_HOST.format("ProxyTimeout 20"), {"LimitRequestBody": "", "ProxyTimeout": "20"}),
    ("LimitRequestBody 5\n" + FPM_HOST.format("LimitRequestBody 7"), {"LimitRequestBody": "7", "ProxyTimeout": "60"}),
    ("<Directory /srv>\nLimitRequestBody 9\n</Directory>\n" + FPM_HOST.format("LimitRequestBody 7"), {"LimitRequestBody": "9", "ProxyTimeout": "60"}),
    ("<Directory /srv/a>\nLimitRequestBody 1\n</Directory>\n<Directory /srv>\nLimitRequestBody 9\n</Directory>\n" + FPM_HOST.format(""), {"LimitRequestBody": "1", "ProxyTimeout": "60"}),
    ("<Directory /var/www>\nLimitRequestBody 9\n</Directory>\n" + FPM_HOST.format(""), {"LimitRequestBody": "", "ProxyTimeout": "60"}),
    (f'<Proxy "{SOCKET}|fcgi://localhost">\nProxySet timeout=77\n</Proxy>\n' + FPM_HOST.format(""), {"LimitRequestBody": "", "timeout": "77"}),
    (VIRTUAL.format(f'ProxyPassMatch "^/(.*\\.php)$" "{SOCKET}|fcgi://localhost/srv/a" timeout=55'), {"LimitRequestBody": "", "timeout": "55"}),
]  # fmt: skip


@pytest.mark.parametrize(("text", "limits"), LIMITS)
def test_what_apache_allows_a_site(tmp_path: Path, text: str, limits: dict[str, str]) -> None:
    root = small_root(tmp_path, extra={"etc/apache2/apache2.conf": text})
    (site,) = survey(DirectoryHost(root, "x")).sites
    assert {limit.name: limit.value for limit in site.limits} == limits
    assert site.spot and site.spot.text.startswith("<VirtualHost")


@pytest.mark.parametrize(
    ("pattern", "value"), [("^/srv/a/$", ["300M"]), ("^/srv/b/", []), ("^/(srv|(a|b)*)/", [None]), ("(", [None])]
)
def test_a_section_whose_pattern_might_take_long_leaves_open_what_it_sets(
    tmp_path: Path, pattern: str, value: list[str | None]
) -> None:
    inside = f'<DirectoryMatch "{pattern}">\nphp_admin_value memory_limit 300M\n</DirectoryMatch>\n'
    handled = "LoadModule php_module x.so\nSetHandler application/x-httpd-php\n"
    write(tmp_path, {"etc/apache2/apache2.conf": handled + VIRTUAL.format(inside)})
    (site,) = probe(DirectoryHost(tmp_path, "x"), [], []).served
    assert [assignment.value for layer in site.layers for assignment in layer.values] == value


IIS = """<configuration><system.applicationHost><sites><site name="nightlog"><bindings><binding protocol="{}"
 bindingInformation="*:80:nightlog.example"/></bindings><application path="/"><virtualDirectory path="/"
 physicalPath="C:\\inetpub\\nightlog"/></application></site></sites></system.applicationHost><system.webServer>
<fastCgi><application fullPath="C:\\PHP\\php-cgi.exe" activityTimeout="120"/></fastCgi><handlers><add name="PHP" path="*.php" modules="FastCgiModule"
 scriptProcessor="C:\\php\\php-cgi.exe"/></handlers></system.webServer>{}</configuration>"""
OWN = """<location path="nightlog"><system.webServer><security><requestFiltering><requestLimits
 maxAllowedContentLength="{}"/></requestFiltering></security></system.webServer></location>"""


@pytest.mark.parametrize(("more", "body"), [("", "30000000"), (OWN.format("90000000"), "90000000")])
def test_what_iis_allows_a_site(tmp_path: Path, more: str, body: str) -> None:
    write(
        tmp_path,
        {"Windows/System32/inetsrv/config/applicationHost.config": IIS.format("https", more), "php/php-cgi.exe": "MZ"},
    )
    (handoff,), _, _ = iis.read(WindowsHost(tmp_path, "x"))
    assert {limit.name: limit.value for limit in handoff.limits} == {
        "maxAllowedContentLength": body,
        "activityTimeout": "120",
        "requestTimeout": "90",
    }
    assert handoff.secure


@pytest.mark.parametrize(
    ("name", "value", "followed"),
    [
        ("PHPRC", "C:\\other", {"PHPRC": "/other"}),
        ("PHPRC", "C:\\PHP\\", {"PHPRC": "/php"}),
        ("PHP_INI_SCAN_DIR", "C:\\x;", {"PHP_INI_SCAN_DIR": "/x;"}),
        ("PHPRC", "%HOME%", None),
        ("TEMP", "C:\\x", {}),
    ],
)
def test_what_iis_sets_in_the_environment_of_php(
    tmp_path: Path, name: str, value: str, followed: dict[str, str] | None
) -> None:
    variable = f'<environmentVariables><environmentVariable name="{name}" value="{value}"/></environmentVariables>'
    text = IIS.format("http", "").replace(
        'activityTimeout="120"/></fastCgi>', f'activityTimeout="120">{variable}</application></fastCgi>'
    )
    write(
        tmp_path,
        {"Windows/System32/inetsrv/config/applicationHost.config": text, "php/php-cgi.exe": "MZ"},
    )
    (handoff,), _, _ = iis.read(WindowsHost(tmp_path, "x"))
    assert [bool(layer.unread) for layer in handoff.layers] == [True] * (followed is None)
    assert handoff.variables == (followed or {})
