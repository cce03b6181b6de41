"""What an application wants of the web server, and what its installer writes: read, judged, told as a risk."""

import shlex
from pathlib import Path

import pytest
from msgspec.structs import replace

from fundamentum.changes.directory import ArrangeDirectory
from fundamentum.check.judge import check
from fundamentum.check.risks import risks
from fundamentum.check.trace import trace
from fundamentum.errors import InputError
from fundamentum.kinds import asked_by, in_words
from fundamentum.model.findings import Finding
from fundamentum.model.surrounding_facts import ServerProcess
from fundamentum.model.survey import Survey
from fundamentum.plan.planner import plan
from tests.around import USERS, around_root, look, needs, site
from tests.small_root import TODAY

WEB = '[web]\ndocument_root = "public"\nfront_controller = "index.php"\nmodules = ["rewrite"]\ndeny = ["config", "public/files"]\n'


def findings(root: Path, tables: str, **options: object) -> dict[str, Finding]:
    application = needs(tables)
    judgement = check(application, look(around_root(root, **options), application))  # type: ignore[arg-type]
    return {finding.need: finding for finding in judgement.findings}


@pytest.mark.parametrize(
    ("nginx", "need", "verdict", "words"),
    [
        (site(), "web:served", "met", "nginx"),
        (site(), "web:front_controller", "met", "index.php answers"),
        (site(front="return 404;"), "web:front_controller", "unmet", "refused"),
        (site().replace("/index.php;", "/other.php;"), "web:front_controller", "unmet", "other.php answers"),
        (site().replace("/index.php;", "=404;"), "web:front_controller", "unmet", "nothing answers"),
        (site(front="proxy_pass http://127.0.0.1:1; "), "web:front_controller", "unknown", "not followed"),
        (site(), "web:document_root", "met", "/srv/nightlog/public"),
        (site().replace("nightlog/public", "nightlog"), "web:document_root", "unmet", "above it"),
        (site().replace("nightlog/public", "elsewhere"), "web:document_root", "unmet", "/srv/elsewhere"),
        (site(), "web:module:rewrite", "met", "nginx has it"),
        (site(), "web:deny:config", "met", "not within"),
        (site().replace("nightlog/public", "nightlog"), "web:deny:config", "unmet", "handed out"),
        (site(), "web:deny:public/files", "unmet", "handed out"),
        (site("location ^~ /files { deny all; }\n"), "web:deny:public/files", "met", "refused"),
        (site("location /files { deny all; }\n"), "web:deny:public/files", "unmet", "PHP files are run"),
        (site("if ($x) { return 403; }\n"), "web:deny:public/files", "unknown", "not followed"),
        (site(), "web:listing", "met", "off"),
        (site("autoindex on;\n").replace("$uri ", "$uri $uri/ "), "web:listing", "unmet", "lists of files"),
        (site("autoindex on;\n"), "web:listing", "met", "off"),
        (site(), "web:home", "met", "/srv/nightlog"),
        (site().replace("/srv/nightlog/public", "/var/www/public"), "web:home", "unmet", "home of www-data"),
    ],
)  # fmt: skip
def test_a_site_is_judged_by_its_configuration(nginx: str, need: str, verdict: str, words: str, tmp_path: Path) -> None:
    finding = findings(tmp_path, WEB, nginx=nginx)[need]
    assert (finding.verdict, words in (finding.found or "")) == (verdict, True), finding
    assert bool(finding.remedy) == (verdict != "met") and in_words(need)


def test_a_name_from_the_server_is_quoted_in_commands(tmp_path: Path) -> None:
    evil = site("if ($x) { return 403; }\n").replace("nightlog.observatory.example", '"a\'; reboot #"')
    finding = findings(tmp_path, WEB, nginx=evil)["web:front_controller"]
    assert "reboot" in (finding.remedy or "") and shlex.split(finding.remedy or "")[-2] == "Host: a'; reboot #"


@pytest.mark.parametrize("directive", ["proxy", "uwsgi", "scgi", "grpc", "memcached"])
def test_what_is_handed_on_is_not_followed(directive: str, tmp_path: Path) -> None:
    finding = findings(tmp_path, WEB, nginx=site(front=f"{directive}_pass 127.0.0.1:1;\n"))["web:front_controller"]
    assert (finding.verdict, "not followed" in (finding.found or "")) == ("unknown", True), finding


def test_modules_that_are_of_use_ask_for_nothing_else(tmp_path: Path) -> None:
    found = findings(tmp_path, '[web]\nrecommended_modules = ["rewrite", "brotli"]\n')
    told = {need: (finding.level, finding.verdict) for need, finding in found.items() if need.startswith("web:")}
    assert told == {
        "web:module:rewrite": ("recommended", "met"),
        "web:module:brotli": ("recommended", "unknown"),
    }
    both = findings(tmp_path, '[web]\nmodules = ["rewrite"]\nrecommended_modules = ["brotli"]\n')
    assert {finding.level for need, finding in both.items() if need.startswith("web:module")} == {
        "required",
        "recommended",
    }
    assert "web:served" in both


def test_another_web_server_is_wanted(tmp_path: Path) -> None:
    found = findings(tmp_path, '[web]\nserver = "apache"\nmodules = ["brotli"]\n')
    assert found["web:served"].verdict == "unmet" and found["web:module:brotli"].verdict == "unknown"


@pytest.mark.parametrize(("modules", "verdict"), [((), "unknown"), (("dir", "rewrite"), "met"), (("dir",), "unmet")])
def test_modules_that_a_configuration_loads(modules: tuple[str, ...], verdict: str, tmp_path: Path) -> None:
    """Where they are not switched on by name."""
    application = needs(WEB)
    survey = look(around_root(tmp_path), application)
    sites = tuple(replace(one, server="apache2") for one in survey.sites)
    servers = (ServerProcess("apache2", modules=modules),)
    judgement = check(application, replace(survey, sites=sites, servers=servers, web_servers=None))
    finding = next(finding for finding in judgement.findings if finding.need == "web:module:rewrite")
    assert (finding.verdict, finding.demands) == (verdict, ())


@pytest.mark.parametrize(
    ("tables", "words"),
    [
        ('[web]\nserver = "lynx"', "is no web server"),
        ('[web]\ndocument_root = "/srv"', "no path below"),
        ('[web]\ndeny = ["a/../b"]', "no path below"),
        ('[web]\nmodules = ["Mod Rewrite"]', "no name of a module"),
        ('[database]\nname = "a"', "on which server"),
        ('[database]\nrequired = ["mariadb"]\nname = "A-b"', "no name of a database"),
        ('[database]\nrequired = ["mariadb"]\nname = "a"\ncharacter_set = "x y"', "no character set"),
        ('[database]\nrequired = ["mariadb"]\ncharacter_set = "utf8mb4"', "for the database"),
        ('[installation]\nwritable = ["/etc"]', "no path below"),
    ],
)
def test_what_is_not_understood_is_named(tables: str, words: str) -> None:
    with pytest.raises(InputError, match=words):
        needs(tables)


INSTALLATION = '[installation]\nwritable = ["config"]\nmake = ["config/site.php"]\n'


def installed(root: Path, content: str | None) -> Survey:
    extra: dict[str, str | bytes] = {**USERS, "srv/nightlog/config/x": ""}
    if content is not None:
        extra["srv/nightlog/config/site.php"] = content
    around_root(root, extra=extra)
    return look(root, needs(INSTALLATION))


def as_owned(survey: Survey, user: int, mode: int) -> Survey:
    """The server with everything of the application's configuration belonging to a user."""
    places = (
        replace(place, user=user, group=33, mode=mode if place.kind == "directory" else mode & 0o666)
        if "/config" in place.path
        else replace(place, user=0, mode=0o755)
        for place in survey.places
    )
    return replace(survey, places=tuple(places))


@pytest.mark.parametrize(
    ("content", "user", "after", "verdict", "found"),
    [
        (None, 0, False, "unmet", "closed"),
        (None, 33, False, "met", "open for the installer"),
        ("", 33, False, "met", "open for the installer"),
        ("<?php", 0, False, "met", "closed"),
        ("<?php", 33, True, "unmet", "open for the installer"),
        ("<?php", 0, True, "met", "closed"),
    ],
)
def test_open_while_the_installer_runs_and_closed_afterwards(
    content: str | None, user: int, after: bool, verdict: str, found: str, tmp_path: Path
) -> None:
    server = as_owned(installed(tmp_path, content), user, 0o755)
    application = replace(needs(INSTALLATION), after_installation=after)
    judgement = check(application, server)
    finding = next(finding for finding in judgement.findings if finding.need == "installation:config")
    assert (finding.verdict, finding.found) == (verdict, found)
    still = [risk.about for risk in risks(server, judgement, TODAY) if "still open" in risk.why]
    assert ("installation:config" in still) == (verdict == "met" and "open" in found)
    made = plan([application], server, today=TODAY)
    assert made.complete
    changes = [change for change in made.changes if isinstance(change, ArrangeDirectory)]
    assert {change.path for change in changes if change.empty_file} == (
        {"/srv/nightlog/config/site.php"} if content is None else set()
    )
    assert any("--after-installation" in hint for hint in made.hints) == (not after and not (content and user == 0))


def test_what_surrounds_a_site_is_told_as_a_risk(tmp_path: Path) -> None:
    extra: dict[str, str | bytes] = {
        "etc/ufw/ufw.conf": "ENABLED=no\n",
        "etc/nginx/sites-available/old": site().replace("nightlog.obs", "old.obs"),
        "etc/nginx/nginx.conf": "user ida;\nevents {}\nhttp {\n    include /etc/nginx/sites-enabled/*;\n}\n",
    }
    application = needs(WEB)
    survey = look(around_root(tmp_path, extra=extra), application)
    about = {risk.about for risk in risks(survey, check(application, survey, "nightlog.observatory.example"), TODAY)}
    assert {"firewall", "web server's user", "site file"} <= about


@pytest.mark.parametrize(("line", "told"), [("", True), ("location ~ /\\. { return 404; }\n", False)])
def test_what_a_site_refuses_is_no_risk(line: str, told: bool, tmp_path: Path) -> None:
    extra: dict[str, str | bytes] = {"srv/nightlog/public/.env": "x", "srv/nightlog/public/.git/config": "x"}
    survey = look(around_root(tmp_path, nginx=site(line), extra=extra), needs(WEB))
    assert any(exposed.kind == "not-for-visitors" for exposed in survey.exposed) == told


def test_a_package_is_traced_whether_or_not_it_has_to_do_with_php(tmp_path: Path) -> None:
    around_root(tmp_path)
    survey = look(tmp_path, needs(""))
    survey = replace(survey, asked=asked_by([], packages=["git", "plates"]))
    (none,) = trace("package:plates", survey)
    assert "not to be had in Debian 12" in none.facts[0]
    offered = look(tmp_path, needs('[commands]\nrequired = ["git"]\n'))
    (some,) = trace("package:git", offered, along=lambda name: [f"brings {name}"])
    assert "brings git" in some.facts and some.sources[0].package == "git"
