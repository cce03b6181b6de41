"""Every way of configuring a site, on small made-up roots, held against what real servers answered.

``answers.json`` holds for each case the directives that the site then had of another value than without it, as PHP 8.2
said over HTTP; ``tests/real/test_laboratory.py`` asks again, and on other releases too.
"""

import json
from contextlib import suppress
from functools import cache
from pathlib import Path

import pytest

from fundamentum.changes.directive import SetDirective
from fundamentum.check.judge import check
from fundamentum.check.judged_runtime import site_in
from fundamentum.check.trace import trace
from fundamentum.effective.site_configuration import for_site, parts, views
from fundamentum.errors import ChoiceNeeded, FundamentumError
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds import asked_by
from fundamentum.model.survey import Survey
from fundamentum.needs.file import parse
from fundamentum.plan.planner import plan
from fundamentum.survey.observe import survey
from tests.small_root import TODAY, needs, small_root, write

from .cases import CASES, RELEASES, UNKNOWN, files_of

ANSWERS = json.loads(Path(__file__).with_name("answers.json").read_text())["cases"]
DIRECTIVES = ("memory_limit", "post_max_size", "max_input_vars", "file_uploads", "allow_url_fopen")
NGINX = "http {\n    include /etc/nginx/conf.d/*.conf;\n    include /etc/nginx/sites-enabled/*;\n}\n"
APACHE = (
    "AccessFileName .htaccess\nInclude mods-enabled/*.load\nInclude mods-enabled/*.conf\nInclude sites-enabled/*.conf\n"
)
PHP = '<FilesMatch ".+\\.ph(?:ar|p|tml)$">\nSetHandler application/x-httpd-php\n</FilesMatch>\n'
LOAD = "LoadModule php_module /usr/lib/apache2/modules/libphp8.2.so\nLoadModule dir_module /usr/lib/apache2/modules/mod_dir.so\n"

MUCH = parse(
    """
format = 1
[application]
name = "nightlog"
[php]
version = ">=8.0"
[extensions]
required = ["ctype"]
[settings.required]
memory_limit = ">= 256M"
file_uploads = "on"
allow_url_fopen = "off"
max_input_vars = ">= 3000"
[uploads]
largest = "80M"
[requests]
longest = "400s"
[web]
front_controller = "front.php"
deny = ["config"]
""",
    "f",
)


def server(root: Path, name: str) -> Survey:
    kind, files = files_of(name, RELEASES["bookworm"], 80)
    made: dict[str, str | bytes] = {"srv/a/index.php": "", "srv/a/sub/index.php": "", "srv/b/index.php": ""}
    made |= {"srv/a/front.php": "", "srv/a/config/local.php": ""}
    made["etc/nginx/snippets/fastcgi-php.conf"] = "include fastcgi.conf;\n"
    made["etc/nginx/fastcgi.conf"] = "fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;\n"
    if kind == "nginx":
        made["etc/nginx/nginx.conf"] = NGINX
    else:
        made["etc/apache2/apache2.conf"] = APACHE
    if kind == "apache":
        made |= {"etc/apache2/mods-enabled/php8.2.load": LOAD, "etc/apache2/mods-enabled/php8.2.conf": PHP}
        made |= {
            "usr/lib/apache2/modules/libphp8.2.so": b"\x7fELF X-Powered-By: PHP/8.2.9\0",
            "etc/php/8.2/apache2/php.ini": "",
            "etc/php/8.2/apache2/conf.d/20-ctype.ini": "extension=ctype.so\n",
        }
    small_root(root, extra=made)
    write(root, {path.format(branch="8.2"): text for path, text in files.items()})
    return survey(DirectoryHost(root, "mizar"), asked_by([MUCH]))


def seen(surveyed: Survey, name: str = "a", below: str = "") -> dict[str, str | None]:
    site = next(site for site in surveyed.sites if site.name == name)
    runtime = next(runtime for runtime in surveyed.runtimes if runtime.label == site.runtime)
    neighbours = [other for other in surveyed.sites if other.runtime == runtime.label]
    below = below or ("index.php" if "index.php" in parts(site) else "")
    settings = for_site(runtime, site, neighbours, below).settings
    return {directive: settings[directive].value for directive in DIRECTIVES}


@cache
def without(folder: Path, kind: str) -> dict[str, str | None]:
    return seen(server(folder / kind, f"{kind}: nothing"))


@pytest.mark.parametrize("name", list(CASES))
def test_what_is_said_is_what_the_real_site_answered(tmp_path: Path, name: str) -> None:
    surveyed = server(tmp_path / "root", name)
    with suppress(FundamentumError):
        plan([MUCH], surveyed, ["a"], today=TODAY)  # held as a whole: see tests/whole_results.py
    judged = check(needs("ctype"), surveyed, "a").findings[0]
    if failing := ANSWERS[name].get("failing"):
        assert (judged.verdict, bool(judged.remedy)) == ("unmet", True), failing
        return
    said = seen(surveyed)
    expected = without(tmp_path, name.partition(":")[0]) | {k: v for k, v in ANSWERS[name].items() if k in DIRECTIVES}
    if name in UNKNOWN:
        assert said["memory_limit"] is None
    else:
        assert {k: v or "0" for k, v in said.items()} == {k: v or "0" for k, v in expected.items()}
    assert "every request" not in (judged.found or "")


def test_what_is_sent_along_meets_the_neighbours_too(tmp_path: Path) -> None:
    assert seen(server(tmp_path, "fpm: sent"), "b")["memory_limit"] is None
    assert seen(server(tmp_path / "n", "fpm: nothing"), "b")["memory_limit"] == "128M"
    assert seen(server(tmp_path / "p", "fpm: path"), "b")["memory_limit"] == "128M"


@pytest.mark.parametrize(("name", "value"), [("fpm: user file below", "304M"), ("module: directory below", "218M")])
def test_a_part_of_a_site_that_differs_is_a_view_of_its_own(tmp_path: Path, name: str, value: str) -> None:
    surveyed = server(tmp_path, name)
    assert seen(surveyed, "a", "sub")["memory_limit"] == value
    site = next(site for site in surveyed.sites if site.name == "a")
    runtime = next(runtime for runtime in surveyed.runtimes if runtime.label == site.runtime)
    assert [below for _, below, _ in views(runtime, [site], [site])] == ["", "sub"]


def test_a_site_with_more_directories_than_are_looked_into_is_named(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {f"srv/a/d{number:03}/.user.ini": "memory_limit = 99M\n" for number in range(200)}
    files["srv/a/d000/e/f/.user.ini"] = "memory_limit = 98M\n"
    write(tmp_path, files)
    surveyed = server(tmp_path, "fpm: nothing")
    layers = [layer for site in surveyed.sites if site.name == "a" for layer in site.layers]
    assert len(layers) == 149  # config/ is one of those looked into
    assert any("looked for in the first 150 directories" in remark.why for remark in surveyed.remarks)
    write(tmp_path / "few", {"srv/a/d/e/f/.user.ini": "", "srv/a/d/e/f/g/.user.ini": "", "srv/a/vendor/.user.ini": ""})
    few = server(tmp_path / "few", "fpm: nothing")
    assert [layer.below for site in few.sites if site.name == "a" for layer in site.layers] == ["d/e/f"]
    assert not [remark for remark in few.remarks if "directories" in remark.why]


def test_the_worst_of_the_sites_is_judged_and_named(tmp_path: Path) -> None:
    surveyed = server(tmp_path, "fpm: user file")
    wanted = needs(settings='[settings.required]\nmemory_limit = ">= 200M"\n')
    with pytest.raises(ChoiceNeeded, match=r"several sites are here; choose one with --runtime: a \(8.2/fpm/www\), b"):
        check(wanted, surveyed)
    judged = check(wanted, surveyed, "8.2/fpm/www")
    assert (judged.target.part, judged.findings[-1].verdict) == ("b", "unmet")
    assert check(wanted, surveyed, "a").findings[-1].verdict == "met"
    narrow = needs(settings='[settings.required]\nmemory_limit = "<= 200M"\n')
    worst = check(narrow, surveyed, "8.2/fpm/www")
    assert (worst.target.part, str(worst.findings[-1].origin)) == ("a", "/srv/a/.user.ini:1")


def test_the_site_that_stands_in_a_directory_is_judged(tmp_path: Path) -> None:
    surveyed = server(tmp_path, "fpm: user file")
    assert (site_in(surveyed, "/srv/a"), site_in(surveyed, "/srv/b/")) == ("a", "b")
    with pytest.raises(ChoiceNeeded, match="several sites stand in /srv; choose one with --runtime: a, b"):
        site_in(surveyed, "/srv")
    with pytest.raises(FundamentumError, match=r"no site has its document root in /srv/c; there is a \(/srv/a\), b"):
        site_in(surveyed, "/srv/c")


def test_a_trace_shows_what_each_site_meets(tmp_path: Path) -> None:
    (traced,) = [
        traced for traced in trace("memory_limit", server(tmp_path, "fpm: user file")) if traced.kind == "setting"
    ]
    shown = {
        in_runtime.runtime: (in_runtime.now, [place.where for place in in_runtime.places if place.wins])
        for in_runtime in traced.runtimes
    }
    assert shown["8.2/fpm/www"] == ("128M", ["built-in"])
    assert shown["8.2/fpm/www for a"] == ("300M", ["/srv/a/.user.ini:1"])
    assert "8.2/fpm/www for b" not in shown


WANTED = needs(settings='[settings.required]\nmemory_limit = ">= 500M"\nmax_input_vars = ">= 2000"\n')
CHANGED = {  # what is planned in a case, and for which other sites
    "fpm: user file": "/srv/a/.user.ini: -memory_limit = 300M +memory_limit = 500M",
    "fpm: path": "/etc/php/8.2/fpm/conf.d/99-x.ini: -memory_limit = 400M +memory_limit = 500M",
    "fpm: sent": '/etc/nginx/sites-enabled/site: -fastcgi_param PHP_VALUE "memory_limit=111M"; +fastcgi_param PHP_VALUE "memory_limit=500M";',
    "module: host": "/etc/apache2/sites-enabled/site.conf: -php_value memory_limit 211M +php_value memory_limit 500M",
    "module: access file": "/srv/a/.htaccess: -php_value memory_limit 310M +php_value memory_limit 500M",
}


@pytest.mark.parametrize("name", list(CHANGED))
def test_a_plan_changes_the_line_that_decides_for_the_site(tmp_path: Path, name: str) -> None:
    made = plan([WANTED], server(tmp_path, name), "a", today=TODAY)
    (edit,) = made.edits
    lines = [line[0] + line[1:].strip() for line in edit.diff.splitlines()[2:] if line[0] in "+-"]
    assert f"{edit.path}: {' '.join(lines)}" == CHANGED[name]
    assert not [unresolved for unresolved in made.unresolved if unresolved.need == "setting:memory_limit"]
    others = {(effect.site, effect.name, effect.after) for effect in made.others}
    assert others <= {("b", "max_input_vars", "2000"), ("b", "memory_limit", "at times 500M")}


def test_a_plan_owns_up_to_what_it_cannot_change(tmp_path: Path) -> None:
    made = plan([WANTED], server(tmp_path, "fpm: sent by map"), "a", today=TODAY)
    assert [directive.name for directive in made.of(SetDirective)] == ["max_input_vars"]
    why = "set memory_limit = 500M at /etc/nginx/sites-enabled/site:9, which decides for this site alone"
    assert [(str(unresolved.need), why in unresolved.why) for unresolved in made.unresolved] == [
        ("setting:memory_limit", True)
    ]
    assert not made.complete
