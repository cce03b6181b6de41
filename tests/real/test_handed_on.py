"""Requests that one web server hands on to another, or a file of a directory to another PHP: real servers asked."""

import time
import urllib.error
import urllib.request

import pytest
from debian_root import Root

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.recording import open_recording
from fundamentum.model.survey import Survey
from fundamentum.plan.planner import plan
from fundamentum.report.plans.script import as_script
from fundamentum.survey.observe import survey
from tests.sites.cases import files_of
from tests.small_root import TODAY, needs
from tests.webservers.test_handed_on import REWRITTEN

from .laboratory import answered, asked, running
from .running import recorded
from .test_laboratory import held_against

pytestmark = pytest.mark.real
PORT, FRONT = 8166, 8167
POOL = "[other]\nuser = www-data\nlisten = /run/php/other.sock\nlisten.owner = www-data\npm = static\npm.max_children = 1\nphp_value[memory_limit] = 333M\n"
FPM = "/etc/php/8.2/fpm/pool.d/other.conf"
HANDLER = 'SetHandler "proxy:unix:/run/php/other.sock|fcgi://localhost"\n'
OVERRIDE = "<Directory /srv>\nAllowOverride All\nRequire all granted\n</Directory>\n"
WAYS = {  # files in the document root, the part that is handed on
    "all of it": ({"/srv/a/.htaccess": f'<FilesMatch "\\.php$">\n{HANDLER}</FilesMatch>\n'}, "/index.php", None),
    "a directory": (
        {"/srv/a/sub/.htaccess": f'<FilesMatch "\\.php$">\n{HANDLER}</FilesMatch>\n'},
        "/sub/index.php",
        "/srv/a/sub",
    ),
}


def look(root: Root) -> Survey:
    return survey(DirectoryHost(root.path, "laboratory", live=True))


@pytest.mark.parametrize("name", list(WAYS))
def test_a_file_of_a_directory_hands_to_another_pool(name: str) -> None:
    more, path, part = WAYS[name]
    server, files = files_of("proxy: nothing", "8.2", PORT)
    site = next(key for key in files if "sites-enabled" in key)
    files = {**files, site: files[site] + OVERRIDE, FPM: POOL, **more}
    with running("bookworm", files, server, PORT) as root:
        answer = asked(PORT, path=path)
        assert answer["ini"]["memory_limit"] == "333M"
        for surveyed in (look(root), survey(open_recording(recorded(root, "dash"), "laboratory"))):
            labels = {one.part: one.runtime for one in surveyed.sites if one.name == "a"}
            assert labels[part] == "8.2/fpm/other"
            assert part is None or labels[None] == "8.2/fpm/www"
            if part is None:
                assert held_against(surveyed, answer) == ([], [])


@pytest.mark.parametrize(("rules", "runtime"), REWRITTEN)
def test_what_rewriting_passes_to_another_web_server(rules: str, runtime: str | None) -> None:
    server, files = files_of("proxy: nothing", "8.2", PORT)
    site = next(key for key in files if "sites-enabled" in key)
    host = files[site].replace("ServerName a\n", f"ServerName a\nRewriteEngine On\n{rules}\n", 1)
    modules = "".join(
        f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n"
        for name in ("rewrite", "proxy_http", "proxy_wstunnel")
    )
    assert host != files[site]
    with running("bookworm", {**files, site: host, "/etc/apache2/mods-enabled/z.load": modules}, server, PORT) as root:
        try:
            answer = asked(PORT, path="/index.php")
        except urllib.error.HTTPError as error:
            answer = {"status": error.code}
        found = [one.runtime for one in look(root).sites if one.name == "a"]
    assert ("ini" in answer) == (runtime is not None), answer
    assert found == ([runtime] if runtime else [])


NGINX = """\
server {{
    listen 127.0.0.1:{front};
    server_name a;
    client_max_body_size 2m;
    location / {{
        proxy_set_header Host $host;
        proxy_pass http://127.0.0.1:{port};
    }}
}}
"""
LARGE = needs(settings='[uploads]\nlargest = "20M"\n')


def sent(size: int) -> int:
    """What comes of a request with a body of so many bytes: its status."""
    request = urllib.request.Request(f"http://127.0.0.1:{FRONT}/index.php", b"x" * size, {"Host": "a"})
    try:
        with urllib.request.urlopen(request, timeout=20) as answer:
            return int(answer.status)
    except urllib.error.HTTPError as error:
        return error.code


def test_a_web_server_in_front_is_a_link_of_the_chain() -> None:
    server, files = files_of("module: nothing", "8.2", PORT)
    files = {**files, "/etc/nginx/sites-enabled/front": NGINX.format(front=FRONT, port=PORT)}
    with running("bookworm", files, server, PORT) as root:
        root.run("nginx")
        answered(FRONT)
        assert (sent(1_000_000), sent(20_000_000)) == (200, 413)
        surveyed = look(root)
        site = next(site for site in surveyed.sites if site.fronts)
        assert (site.name, site.server, [front.server for front in site.fronts]) == ("a", "apache2", ["nginx"])
        judged = next(finding for finding in check(LARGE, surveyed, "a").findings if finding.chain)
        assert (judged.verdict, judged.chain[0].of, judged.chain[0].enough) == ("unmet", "nginx", False)
        made = plan([LARGE], surveyed, "a", today=TODAY)
        assert made.complete
        root.write("/root/plan.sh", as_script(made))
        root.run("sh", "/root/plan.sh", "--yes")
        for _ in range(40):  # nginx goes on with its old processes for a moment
            if sent(20_000_000) == 200:
                break
            time.sleep(0.1)
        assert sent(20_000_000) == 200, as_script(made)
        assert check(LARGE, look(root), "a").satisfied
