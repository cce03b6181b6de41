"""What is said about a site is what the site itself says: every way of configuring it, on every release."""

import gzip
import json
from pathlib import Path
from typing import Any

import msgspec
import pytest
from debian_root import Root

from fundamentum.check.judge import check
from fundamentum.effective.confinement import disabled
from fundamentum.effective.site_configuration import for_site, parts
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.recording import open_recording
from fundamentum.kinds import asked_by
from fundamentum.model.survey import Survey
from fundamentum.needs.file import parse
from fundamentum.survey.observe import survey
from fundamentum.survey.site_answers import ask_sites
from tests.around import needs as around
from tests.sites.cases import CASES, RELEASES, UNKNOWN, files_of

from .carried_out import fundamentum
from .laboratory import asked, running
from .running import recorded

pytestmark = pytest.mark.real
PORT = 8161
ANSWERS = json.loads((Path(__file__).parents[1] / "sites/answers.json").read_text())["cases"]
NEEDS = """\
format = 1
[application]
name = "nightlog"
[settings.required]
{}
"""
FUNCTIONS = {"exec", "mail", "passthru"}
BESIDE = around('[directories.required]\n"/srv/a/data" = "writable"\n"/srv/a/closed" = "writable"\n')
QUIET = {
    "disable_functions",
    "opcache.memory_consumption",
    "date.timezone",
    "error_log",
    "include_path",
    "extension_dir",
    "sendmail_path",
}


def held_against(
    surveyed: Survey, answer: dict[str, Any], name: str = "a", below: str = ""
) -> tuple[list[str], list[str]]:
    """The directives of which something else is said than the site has, and those of which nothing is known."""
    site = next(site for site in surveyed.sites if site.name == name)
    runtime = next(runtime for runtime in surveyed.runtimes if runtime.label == site.runtime)
    neighbours = [other for other in surveyed.sites if other.runtime == runtime.label]
    below = below or ("index.php" if "index.php" in parts(site) else "")
    view = for_site(runtime, site, neighbours, below)
    wrong, unknown = [], []
    for directive, setting in view.settings.items():
        if directive not in answer["ini"] or directive in QUIET:
            continue
        if setting.value is None:
            unknown.append(directive)
        elif setting.value != (answer["ini"][directive] or ""):
            wrong.append(f"{directive}: said {setting.value!r} ({setting.origin}), is {answer['ini'][directive]!r}")
    return wrong, unknown


def look(root: Root) -> Survey:
    return survey(DirectoryHost(root.path, "laboratory"), asked_by([BESIDE]))


@pytest.mark.parametrize("name", list(CASES))
@pytest.mark.parametrize("release", list(RELEASES))
def test_what_is_said_is_so(release: str, name: str) -> None:
    server, files = files_of(name, RELEASES[release], PORT)
    with running(release, files, server, PORT) as root:
        answer, surveyed = asked(PORT), look(root)
        if release == "bookworm":
            known = ANSWERS[name]
            assert {key: answer.get("ini", answer)[key] for key in known} == known, "the quick tests rest on it"
        wanted = parse(NEEDS.format('memory_limit = ">= 1M"'), "f")
        judged = check(wanted, surveyed, "a")
        if "failing" in answer:
            assert judged.findings[0].verdict in ("unmet", "unknown"), answer
            return
        wrong, unknown = held_against(surveyed, answer)
        judgement = check(BESIDE, surveyed, "a")
        verdicts = {str(finding.need): finding.verdict for finding in judgement.findings}
        for path in ("/srv/a/data", "/srv/a/closed"):
            expected = "met" if path in answer["writable"] else "unmet"
            assert verdicts[f"directory:{path}"] in (expected, "unknown" if unknown else expected)
        gone, setting = disabled(judgement.target)
        assert setting and (setting.value is None or gone & FUNCTIONS == FUNCTIONS - set(answer["functions"]))
        loaded = {extension.shown for extension in judgement.target.runtime.extensions if extension.fault is None}
        assert loaded - set(answer["extensions"]) <= {"Zend OPcache", "core"} and len(loaded) > 20
        assert not wrong
        assert not unknown or name in UNKNOWN or "by map" in name
        assert judged.findings[0].verdict == "met"


SAID = ("sent", "user file", "access file", "host", "path")
RECORDED = [
    name
    for name in CASES
    if any(word in name for word in SAID)
    and not any(word in name for word in ("variable", "another name", "the root by"))
][::4]
"""Variables of nginx and files of other names are not recorded: what rests on them is unknown in a recording."""


@pytest.mark.parametrize("name", RECORDED)
def test_a_recording_tells_the_same_of_a_site(name: str) -> None:
    server, files = files_of(name, RELEASES["bookworm"], PORT)
    with running("bookworm", files, server, PORT) as root:
        live = look(root)
        surveyed = survey(open_recording(recorded(root, "dash"), "x"))
    for ours, theirs in zip(live.sites, surveyed.sites, strict=True):
        assert [(layer.kind, layer.below, layer.values) for layer in ours.layers] == [
            (layer.kind, layer.below, layer.values) for layer in theirs.layers
        ]
        assert (ours.failing, ours.user, ours.runtime) == (theirs.failing, theirs.user, theirs.runtime)


@pytest.mark.parametrize("name", [*list(CASES)[::9], "module: access file", "fpm: path"])
def test_a_running_site_says_what_its_files_say(name: str) -> None:
    """Asked with a file in its document root, which is gone afterwards."""
    server, files = files_of(name, RELEASES["bookworm"], PORT)
    with running("bookworm", files, server, PORT) as root:
        answer, surveyed = asked(PORT), look(root)
        before = sorted(path.name for path in (root.path / "srv/a").iterdir())
        said = ask_sites(surveyed, root.path, with_file=True)
        assert sorted(path.name for path in (root.path / "srv/a").iterdir()) == before
    site = next(site for site in said.sites if site.name == "a")
    depends = any(layer.unread for layer in site.layers)
    assert (site.answer is None) == ("failing" in answer or depends)
    assert not [remark for remark in said.remarks if remark.subject and remark.why.startswith("a:")]
    if site.answer:
        assert site.answer.settings["memory_limit"] == answer["ini"]["memory_limit"]
        elsewhere = ask_sites(surveyed, Path("/"), with_file=False)
        assert all(one.answer is None for one in elsewhere.sites), "no other server is asked in its place"


DEEP = {
    "fpm: user file": {
        "/srv/a/sub/.user.ini": "memory_limit = 341M\n",
        "/srv/a/sub/deep/.user.ini": "max_input_vars = 342\n",
    },
    "module: access file, options": {
        "/srv/a/sub/.htaccess": "php_value memory_limit 343M\n",
        "/srv/a/sub/deep/.htaccess": "php_value max_input_vars 344\n",
    },
}


@pytest.mark.parametrize("name", list(DEEP))
def test_a_directory_of_a_directory_has_what_it_says(name: str) -> None:
    server, files = files_of(name, RELEASES["bookworm"], PORT)
    with running("bookworm", {**files, **DEEP[name]}, server, PORT) as root:
        (root.path / "srv/a/sub/deep/index.php").write_text((root.path / "srv/a/index.php").read_text())
        for part in ("", "sub", "sub/deep"):
            answer = asked(PORT, path=f"/{part}/index.php".replace("//", "/"))
            for surveyed in (look(root), survey(open_recording(recorded(root, "dash"), "x"))):
                assert held_against(surveyed, answer, below=part) == ([], []), part


WITH_COMMENTS = """\
server {{
    # where it waits
    listen 127.0.0.1:{port};
    server_name a;
        \t
    root /srv/a;
    index index.php;
    # how much may be sent, and no more
    client_max_body_size 1m;{behind}
    location ~ \\.php$ {{
        include snippets/fastcgi-php.conf;
        # With php-fpm:
        fastcgi_pass unix:/run/php/php8.2-fpm.sock;
    }}
}}
"""
UPLOADS = 'format = 1\n[application]\nname = "nightlog"\n[uploads]\nlargest = "24M"\n'


@pytest.mark.parametrize("behind", ["", "  ", "\t"])
def test_a_plan_from_a_recording_changes_what_stands_on_the_server(behind: str, tmp_path: Path) -> None:
    """Comments and blanks, which a recording leaves out, stand around each line that is changed."""
    files = {"/etc/nginx/sites-enabled/site": WITH_COMMENTS.format(port=PORT, behind=behind)}
    with running("bookworm", files, "nginx", PORT) as root:
        (tmp_path / "recording.tar").write_bytes(recorded(root, "dash"))
        (tmp_path / "nightlog.needs.toml").write_text(UPLOADS)
        code, script = fundamentum(
            "plan", str(tmp_path / "nightlog.needs.toml"), "--server", str(tmp_path / "recording.tar"),
            "--runtime", "a", "--format", "script",
        )  # fmt: skip
        root.write("/root/plan.sh", script)
        root.run("sh", "/root/plan.sh", "--yes")
        site = (root.path / "etc/nginx/sites-enabled/site").read_text()
        assert code == 0
        assert f"    # how much may be sent, and no more\n    client_max_body_size 25m;{behind}\n" in site
        assert check(parse(UPLOADS, "f"), look(root), "a").satisfied


ONE_LINE = (
    "server {{ listen 127.0.0.1:{port}; server_name a; root /srv/current; index index.php; "
    "location ~ \\.php$ {{ include snippets/fastcgi-php.conf; fastcgi_pass unix:/run/php/php8.2-fpm.sock; }} }}\n"
)
ODD = {
    "one line, and a root to which a link leads": (
        "nginx",
        {
            "/etc/nginx/sites-enabled/site": ONE_LINE.format(port=PORT),
            "/srv/releases/7/.user.ini": "memory_limit = 351M\n",
        },
    ),
    "files that are included from elsewhere": (
        "nginx",
        {
            "/etc/nginx/conf.d/more.conf": "include /srv/conf/*.conf;\n",
            "/srv/conf/a.conf": ONE_LINE.format(port=PORT).replace("php8.2-fpm", "more"),
            "/etc/php/8.2/fpm/pool.d/zz-more.conf": "include=/srv/pools/*.conf\n",
            "/srv/pools/more.conf": "[more]\nuser = www-data\nlisten = /run/php/more.sock\nlisten.owner = www-data\n"
            "pm = ondemand\npm.max_children = 1\nphp_admin_value[memory_limit] = 352M\n",
            "/srv/pools/other.conf": "; root:planted:1:0\nenv[TOKEN] = planted\n",
        },
    ),
    "ends of lines as other systems have them": (
        "apache",
        {
            "/etc/apache2/sites-enabled/site.conf": files_of("module: access file, options", "8.2", PORT)[1][
                "/etc/apache2/sites-enabled/site.conf"
            ].replace("\n", "\r\n"),
            "/srv/a/.htaccess": "php_value memory_limit 352M\r\n",
        },
    ),
}


@pytest.mark.parametrize("name", list(ODD))
def test_a_recording_finds_the_roots_of_sites(name: str) -> None:
    server, files = ODD[name]

    def released(root: Root) -> None:
        (root.path / "srv/current").symlink_to("releases/7")
        root.write("/srv/releases/7/index.php", (root.path / "srv/a/index.php").read_text())

    with running("bookworm", files, server, PORT, prepared=released) as root:
        answer, archive = asked(PORT), recorded(root, "dash")
        assert answer["ini"]["memory_limit"] in ("351M", "352M")
        assert b"planted" not in gzip.decompress(archive)
        for surveyed in (look(root), survey(open_recording(archive, "x"))):
            assert held_against(surveyed, answer) == ([], [])


ALIAS = """\
Listen 127.0.0.1:{port}
ServerName laboratory
DirectoryIndex index.php
<VirtualHost 127.0.0.1:{port}>
    ServerName a
    DocumentRoot /srv/a
    Alias /vault /opt/vault
    {handed}
</VirtualHost>
<Directory /srv>
    Require all granted
</Directory>
<Directory /opt/vault>
    Require all granted
    AllowOverride All
    {said}
</Directory>
"""
HANDED = {
    "apache": ("", "php_value max_input_vars 361"),
    "apache-fpm": (
        '<FilesMatch "\\.php$">\nSetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"\n</FilesMatch>',
        "",
    ),
}


@pytest.mark.parametrize("server", list(HANDED))
def test_what_an_alias_leads_to_has_what_its_own_directory_says(server: str) -> None:
    handed, said = HANDED[server]
    files = {
        "/etc/apache2/sites-enabled/site.conf": ALIAS.format(port=PORT, handed=handed, said=said),
        "/srv/a/.user.ini": "memory_limit = 362M\n",
        "/srv/a/.htaccess": "",
        "/opt/vault/.user.ini": "memory_limit = 363M\n",
        "/opt/vault/.htaccess": "php_value memory_limit 364M\n" if server == "apache" else "",
    }

    def filled(root: Root) -> None:
        root.write("/opt/vault/index.php", (root.path / "srv/a/index.php").read_text())

    with running("bookworm", files, server, PORT, prepared=filled) as root:
        for surveyed in (look(root), survey(open_recording(recorded(root, "dash"), "x"))):
            by_part = {site.part: site for site in surveyed.sites}
            for part, path in ((None, "/index.php"), ("/vault", "/vault/index.php")):
                only = msgspec.structs.replace(surveyed, sites=(by_part[part],))
                assert held_against(only, asked(PORT, path=path)) == ([], []), part
