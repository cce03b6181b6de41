"""Each state of an extension, what leads to it, and the remedy that follows.  One row, one behaviour."""

import os
from pathlib import Path

import pytest
from msgspec.structs import replace

from fundamentum.changes.extension_switch import EnableExtension
from fundamentum.check.judge import check
from fundamentum.errors import ChoiceNeeded, FundamentumError
from fundamentum.model.findings import Finding
from fundamentum.model.needs import Needs
from fundamentum.model.packages import Offer
from fundamentum.model.remark import Remark
from fundamentum.model.survey import Survey
from fundamentum.plan.planner import plan
from fundamentum.platforms import platform
from fundamentum.platforms.offers import Offers
from tests.small_root import INDEX, MODULE, SITE, TODAY, look, needs, small_root, write


def only(survey: Survey, wanted: Needs, selector: str | None = None) -> Finding:
    return check(wanted, survey, selector).findings[-1]


STATES = [  # extension, files besides the small root's, state, words of the remedy
    ("ctype", {}, "active", None),
    ("json", {}, "active", None),
    ("openssl", {}, "active", None),
    ("gd", {}, "installable", "install php8.2-gd"),
    ("dom", {}, "installable", "install php8.2-xml"),
    ("mysqli", {}, "installable", "install php8.2-mysql"),
    ("pdo_mysql", {}, "installable", "install php8.2-mysql"),
    ("star", {}, "installable", "install php8.2-star"),
    ("mysql", {}, "unobtainable", "mysqli or pdo_mysql took its place"),
    ("imap", {}, "other-branch", "offered for PHP 8.4"),
    ("orrery", {}, "unobtainable", "no repository here carries it"),
    ("orrery | ctype", {}, "active", None),
    ("orrery | gd", {}, "installable", "install php8.2-gd"),
    ("gd", {"etc/php/8.2/fpm/conf.d/20-gd.ini": "extension=gd\n"}, "misfit", "install php8.2-gd"),
    (
        "gd",
        {"usr/lib/php/20220829/gd.so": b"MZ", "etc/php/8.2/fpm/conf.d/20-gd.ini": "extension=gd\n"},
        "misfit",
        "install php8.2-gd",
    ),
    (
        "pdo_mysql",
        {
            "usr/lib/php/20220829/pdo_mysql.so": MODULE,
            "var/lib/dpkg/info/php8.2-mysql.list": "/usr/lib/php/20220829/pdo_mysql.so\n",
            "etc/php/8.2/mods-available/pdo_mysql.ini": "extension=pdo_mysql.so\n",
        },
        "switched-off",
        "phpenmod -v 8.2 -s fpm pdo_mysql",
    ),
    (
        "pdo_mysql",
        {
            "usr/lib/php/20220829/pdo_mysql.so": MODULE,
            "var/lib/dpkg/info/php8.2-mysql.list": "/usr/lib/php/20220829/pdo_mysql.so\n",
            "etc/php/8.2/fpm/conf.d/20-pdo_mysql.ini": "extension=pdo_mysql.so\n",
        },
        "misfit",
        "install php8.2-mysql",
    ),
]


@pytest.mark.parametrize(("extension", "extra", "state", "remedy"), STATES)
def test_states(tmp_path: Path, extension: str, extra: dict[str, str | bytes], state: str, remedy: str | None) -> None:
    finding = only(look(small_root(tmp_path, extra=extra)), needs(extension))
    assert finding.state == state
    assert finding.verdict == ("met" if state == "active" else "unmet")
    assert (remedy is None and finding.remedy is None) or (remedy or "") in (finding.remedy or "")
    if remedy and remedy.startswith("install "):
        assert finding.package == remedy.removeprefix("install ")


def test_a_process_that_started_earlier_awaits_a_restart(tmp_path: Path) -> None:
    survey = look(small_root(tmp_path, fpm_ini="memory_limit = 300M\n"))
    late = replace(
        survey,
        runtimes=tuple(
            replace(r, started=1.0, stale=("/etc/php/8.2/fpm/conf.d/20-ctype.ini", "/etc/php/8.2/fpm/php.ini"))
            for r in survey.runtimes
        ),
    )
    assert only(late, needs("ctype")).state == "awaiting-restart"
    assert only(late, needs("pdo")).state == "active"
    assert only(late, needs(settings='[settings.required]\nmemory_limit = ">= 200M"')).remedy == "restart php8.2-fpm"


def test_what_an_incomplete_index_lacks_is_not_called_unobtainable(tmp_path: Path) -> None:
    survey = replace(look(small_root(tmp_path)), remarks=(Remark("package indexes", "breaks off"),))
    assert (only(survey, needs("orrery")).state, only(survey, needs("gd")).state) == (None, "installable")


SETTINGS = [  # condition, php.ini, verdict, found
    ('memory_limit = ">= 256M"', "; memory_limit = 512M\n", "unmet", "128M"),
    ('memory_limit = ">= 256M"', "memory_limit = -1\n", "met", "-1 (no limit)"),
    ('upload_max_filesize = ">= 16M"', "upload_max_filesize = 200\n", "unmet", "200 bytes"),
    ('upload_max_filesize = ">= 16M"', "upload_max_filesize = 200MB\n", "unmet", "200MB (PHP reads 200 bytes)"),
    ('memory_limit = ">= 1G"', "memory_limit = 1.5G\n", "met", "1.5G (PHP reads 1G)"),
    (
        'max_input_time = ">= 60"',
        "max_input_time = -1\nmax_execution_time = 30\n",
        "unmet",
        "-1 (as max_execution_time)",
    ),
    ('max_input_time = ">= 60"', "max_input_time = -1\nmax_execution_time = 0\n", "met", "-1 (as max_execution_time)"),
    ('"session.auto_start" = "off"', "", "met", "off"),
    ('open_basedir = "unset"', "open_basedir = /srv\n", "unmet", "/srv"),
    ('safe_mode = "off"', "", "met", "does not exist"),
    ('safe_mode = "on"', "", "unmet", "does not exist"),
    ('"opcache.enable" = "on"', "", "unmet", "the extension opcache is not loaded"),
    ('"opcache.enable" = "off"', "", "met", "not in effect"),
    ('"no.such_thing" = "on"', "", "unknown", "not known"),
    ('user_agent = "= x"', "user_agent = ${OUTSIDE}\n", "unknown", "not known"),
]


@pytest.mark.parametrize(("condition", "ini", "verdict", "shown"), SETTINGS)
def test_settings(tmp_path: Path, condition: str, ini: str, verdict: str, shown: str) -> None:
    finding = only(look(small_root(tmp_path, fpm_ini=ini)), needs(settings=f"[settings.required]\n{condition}\n"))
    assert (finding.verdict, finding.found) == (verdict, shown)


def test_values_written_oddly_are_called_out(tmp_path: Path) -> None:
    finding = only(
        look(small_root(tmp_path, fpm_ini="post_max_size = 200MB\n")),
        needs(settings='[settings.required]\npost_max_size = ">= 20M"\n'),
    )
    assert "not what it looks like" in (finding.remark or "")


def test_a_loader_is_found_by_the_name_php_lists(tmp_path: Path) -> None:
    wanted = needs(settings='[loaders]\nrequired = ["Orrery Loader"]\n')
    finding = only(look(small_root(tmp_path)), wanted)
    assert (finding.need, finding.state) == ("loader:Orrery Loader", "unobtainable")
    assert "PHP 8.2" in (finding.remedy or "")


def test_the_runtime_that_serves_the_web_is_judged_and_never_one_of_several(tmp_path: Path) -> None:
    root = small_root(tmp_path, extra={"usr/bin/php8.2": b"PHP", "etc/php/8.2/cli/php.ini": ""})
    assert check(needs(), look(root)).target.runtime.label == "8.2/fpm/www"
    write(root, {"etc/php/8.2/fpm/pool.d/two.conf": "[two]\nuser=x\n"})
    assert check(needs(), look(root)).target.runtime.label == "8.2/fpm/www"  # nothing is handed to the other
    write(
        root,
        {
            "etc/nginx/nginx.conf": SITE.replace(
                "}\n", "} server { server_name other; location / { fastcgi_pass x; } }\n"
            )
        },
    )
    with pytest.raises(ChoiceNeeded, match=r"other \(unknown\), nightlog \(8\.2/fpm/www\)"):
        check(needs(), look(root))
    (root / "etc/nginx/nginx.conf").unlink()
    with pytest.raises(ChoiceNeeded, match=r"8\.2/fpm/two, 8.2/fpm/www"):
        check(needs(), look(root))
    assert check(needs(), look(root), "8.2/fpm/two").target.runtime.pool == "two"
    assert check(needs(), look(root), "8.2/cli").target.runtime.sapi == "cli"


def test_without_a_web_runtime_a_fresh_installation_is_judged(tmp_path: Path) -> None:
    root = small_root(tmp_path, extra={"usr/bin/php8.2": b"PHP", "etc/php/8.2/cli/php.ini": ""})
    (root / "usr/sbin/php-fpm8.2").unlink()
    judged = check(needs("json"), look(root))
    assert (judged.target.present, judged.target.runtime.label) == (False, "8.2/fpm/www")
    assert "command line" in judged.target.reason
    assert [(f.need, f.verdict) for f in judged.findings] == [("php", "unmet"), ("extension:json", "met")]


@pytest.mark.parametrize(
    ("selector", "words"),
    [("8.x", "BRANCH"), ("8.2/iis", "BRANCH"), ("8.3", "neither installed nor offered"), ("8.2/fpm/none", "no pool")],
)
def test_selectors_that_name_nothing(tmp_path: Path, selector: str, words: str) -> None:
    with pytest.raises(FundamentumError, match=words):
        check(needs(), look(small_root(tmp_path)), selector)


@pytest.mark.parametrize(("accepted", "verdict"), [(">=8.1", "met"), (">=8.3", "unmet"), ("<8.2", "unmet")])
def test_php_itself(tmp_path: Path, accepted: str, verdict: str) -> None:
    assert check(needs(php=accepted), look(small_root(tmp_path))).findings[0].verdict == verdict


def test_the_newest_version_on_offer_is_taken(tmp_path: Path) -> None:
    newer = INDEX.replace("8.2.9-1", "8.2.10~rc1-1")
    survey = look(small_root(tmp_path, index=INDEX + "\n" + newer))
    offer = Offers(survey).package("php8.2-gd")
    assert offer is not None
    assert offer.version == "8.2.10~rc1-1"


@pytest.mark.parametrize(
    ("name", "provides", "depends", "found"),
    [
        ("php8.2-cli", "php-cli, phpapi-20220829, php-json", "", set()),
        ("php8.2-gd", "php-gd", "", {"gd"}),
        ("php8.2-dev", "", "", set()),
        ("php8.2-mysql", "php8.2-pdo-mysql, php-mysqli", "", {"pdo_mysql", "mysqli"}),
        ("php8.2-new", "", "phpapi-20220829", {"new"}),
    ],
)
def test_what_a_package_brings_stands_in_the_index(name: str, provides: str, depends: str, found: set[str]) -> None:
    assert platform("debian").extensions_in(Offer(name, "1", "s", provides=provides, depends=depends), "8.2") == found


@pytest.mark.parametrize("unread", ["php.ini", "conf.d/00-first.ini"])
def test_what_an_unreadable_file_may_set_or_load_is_unknown(tmp_path: Path, unread: str) -> None:
    root = small_root(
        tmp_path, fpm_ini="memory_limit = 300M\n", extra={"etc/php/8.2/fpm/conf.d/50-a.ini": "max_input_vars = 5000\n"}
    )
    (root / f"etc/php/8.2/fpm/{unread}").unlink()
    os.mkfifo(root / f"etc/php/8.2/fpm/{unread}")  # cannot be read as a file, not even by root
    settings = '[settings.required]\nmemory_limit = ">= 1M"\nmax_input_vars = ">= 10"\n'
    judged = {
        str(finding.need): finding for finding in check(needs("ctype", "gd", settings=settings), look(root)).findings
    }
    verdicts = {need: finding.verdict for need, finding in judged.items()}
    assert verdicts == {
        "php": "met",
        "extension:ctype": "met",
        "extension:gd": "unknown",
        "setting:memory_limit": "unknown",
        "setting:max_input_vars": "met",
    }
    assert unread in (judged["setting:memory_limit"].remedy or "")


def test_programs_that_run_at_set_times_need_the_command_line_too(tmp_path: Path) -> None:
    wanted = needs("ctype", settings='[tasks.required]\n"bin/x.php" = "every 15m"\n')
    root = small_root(tmp_path)
    there = check(wanted, look(root)).command_line
    assert there and next((str(f.need), f.verdict, f.state) for f in there.findings) == ("php", "unmet", "installable")
    write(root, {"usr/bin/php8.2": b"\x7fELF X-Powered-By: PHP/8.2.9\0", "etc/php/8.2/cli/php.ini": ""})
    judged = check(wanted, look(root))
    assert judged.command_line
    assert [(str(f.need), f.state) for f in judged.command_line.findings] == [
        ("php", None),
        ("extension:ctype", "switched-off"),
    ]
    assert not judged.satisfied
    made = plan([wanted], look(root), today=TODAY)
    assert EnableExtension("ctype", "ctype", "8.2", "cli") in made.of(EnableExtension)
    assert check(needs("ctype"), look(root)).command_line is None
