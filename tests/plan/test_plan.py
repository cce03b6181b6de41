"""Plans: what they contain, and that they prove themselves."""

from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from fundamentum.changes.directive import SetDirective
from fundamentum.changes.extension_switch import EnableExtension
from fundamentum.changes.packages import Install
from fundamentum.changes.pool import AddPool
from fundamentum.changes.service import Restart
from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.needs import Needs
from fundamentum.model.packages import Installed
from fundamentum.model.survey import Survey
from fundamentum.needs.file import parse
from fundamentum.plan.planner import plan
from fundamentum.survey.observe import survey
from tests.examples import examples
from tests.small_root import INDEX, TODAY, needs, small_root, write


def look(root: Path) -> Survey:
    return survey(DirectoryHost(root, "mizar"))


def test_one_install_for_everything_with_what_comes_along(tmp_path: Path) -> None:
    made = plan([needs("gd", "dom", "pdo_mysql", "json", "openssl")], look(small_root(tmp_path)), today=TODAY)
    assert [install.package for install in made.of(Install)] == ["php8.2-gd", "php8.2-mysql", "php8.2-xml"]
    assert made.along == ("libodd1", "libpicture2")
    assert made.complete
    assert [restart.service for restart in made.of(Restart)] == ["php8.2-fpm"]
    assert all(made.reasons[f"install:{install.package}"] for install in made.of(Install))


def test_settings_go_behind_those_that_set_them_and_none_is_lowered(tmp_path: Path) -> None:
    root = small_root(
        tmp_path,
        fpm_ini="memory_limit = 1G\nmax_input_vars = 10\n",
        extra={"etc/php/8.2/fpm/conf.d/95-x.ini": "post_max_size = 1M\n"},
    )
    made = plan(
        [
            needs(
                settings='[settings.required]\nmemory_limit = ">= 256M"\nmax_input_vars = ">= 5000"\npost_max_size = ">= 20M"\n'
            )
        ],
        look(root),
        today=TODAY,
    )
    assert [
        (directive.name, directive.before, directive.after, directive.file) for directive in made.of(SetDirective)
    ] == [
        ("max_input_vars", "10", "5000", "/etc/php/8.2/fpm/conf.d/zz-nightlog.ini"),
        ("post_max_size", "1M", "20M", "/etc/php/8.2/fpm/conf.d/zz-nightlog.ini"),
    ]


def test_a_second_plan_keeps_what_the_first_wrote(tmp_path: Path) -> None:
    root = small_root(tmp_path, extra={"etc/php/8.2/fpm/conf.d/90-nightlog.ini": "max_input_vars = 6000\n"})
    made = plan([needs(settings='[settings.required]\nmemory_limit = ">= 256M"\n')], look(root), today=TODAY)
    assert made.files[0].content.splitlines()[1:] == ["max_input_vars = 6000", "memory_limit = 256M"]


def test_a_pool_that_sets_a_limit_itself_is_changed_in_a_pool_file_read_before_it(tmp_path: Path) -> None:
    root = small_root(
        tmp_path,
        extra={
            "etc/php/8.2/fpm/pool.d/www.conf": "[www]\nlisten = /run/php/php8.2-fpm.sock\nphp_admin_value[memory_limit] = 32M\n"
        },
    )
    made = plan([needs(settings='[settings.required]\nmemory_limit = ">= 256M"\n')], look(root), today=TODAY)
    assert made.files[0].path == "/etc/php/8.2/fpm/pool.d/00-nightlog-www.conf"
    write(root, {made.files[0].path: made.files[0].content})
    assert check(made.after[0].needs, look(root)).satisfied


def test_applications_on_one_runtime_share_limits(tmp_path: Path) -> None:
    application, two = (
        needs(settings=f'[settings.required]\nmemory_limit = ">= {size}"\n') for size in ("256M", "512M")
    )
    made = plan([application, replace(two, name="platevault")], look(small_root(tmp_path)), today=TODAY)
    assert [(change.name, change.after) for change in made.of(SetDirective)] == [("memory_limit", "512M")]
    assert made.files[0].path.endswith("90-nightlog-platevault.ini")


def test_an_extension_that_waits_for_another_brings_that_one_on(tmp_path: Path) -> None:
    root = small_root(tmp_path, ["ctype", "pdo", "mysqlnd", "pdo_mysql"])
    for name in ("pdo", "mysqlnd"):
        (root / f"etc/php/8.2/fpm/conf.d/20-{name}.ini").unlink()
    made = plan([needs("pdo_mysql")], look(root), today=TODAY)
    assert {enable_extension.extension for enable_extension in made.of(EnableExtension)} == {"pdo", "mysqlnd"}
    assert made.complete


def test_what_cannot_be_had_is_owned_up_to(tmp_path: Path) -> None:
    made = plan([needs("orrery", "gd")], look(small_root(tmp_path)), today=TODAY)
    assert not made.complete
    assert {unresolved.need for unresolved in made.unresolved} == {"extension:orrery"}
    assert Install("php8.2-gd") in made.of(Install)


@pytest.mark.parametrize("selector", [None, "8.2", "8.2/cgi"])
def test_nothing_is_done_on_a_php_that_is_refused(tmp_path: Path, selector: str | None) -> None:
    index = INDEX + "\nPackage: php8.2-cgi\nVersion: 8.2.9-1\nArchitecture: amd64\nProvides: phpapi-20220829\n"
    refusing = needs("gd", php="<8.2", settings='[settings.required]\nmemory_limit = ">= 256M"\n')
    made = plan([refusing], look(small_root(tmp_path, index=index)), selector, today=TODAY)
    assert made.empty and not made.complete
    assert {unresolved.need for unresolved in made.unresolved} == {"php", "extension:gd", "setting:memory_limit"}
    assert all("install php" not in unresolved.why for unresolved in made.unresolved if unresolved.need != "php")


def test_recommended_needs_can_be_left_out(tmp_path: Path) -> None:
    wanted = parse(
        'format=1\n[application]\nname="nightlog"\n[extensions]\nrequired=["gd"]\nrecommended=["dom"]\n', "f"
    )
    surveyed = look(small_root(tmp_path))
    assert len(plan([wanted], surveyed, today=TODAY).of(Install)) == 2
    assert len(plan([wanted], surveyed, recommended=False, today=TODAY).of(Install)) == 1


def test_a_setting_may_be_required_and_more_of_it_recommended(tmp_path: Path) -> None:
    tables = '[settings.required]\nmemory_limit = ">= 200M"\n[settings.recommended]\nmemory_limit = ">= 512M"\n'
    surveyed = look(small_root(tmp_path))
    made = {wish: plan([needs(settings=tables)], surveyed, recommended=wish, today=TODAY) for wish in (True, False)}
    assert [change.after for change in made[True].of(SetDirective)] == ["512M"]
    assert [change.after for change in made[False].of(SetDirective)] == ["200M"]


EXTENSIONS = st.sampled_from(
    ["ctype", "pdo", "gd", "dom", "mysqli", "pdo_mysql", "star", "imap", "orrery", "json", "opcache", "gettext"]
)
CONDITIONS = st.dictionaries(
    st.sampled_from(
        [
            "memory_limit",
            "post_max_size",
            "max_input_vars",
            "session.auto_start",
            "open_basedir",
            "opcache.enable",
            "safe_mode",
            "max_execution_time",
        ]
    ),
    st.sampled_from([">= 256M", "on", "off", "unset", ">= 10, <= 900", "< 5", "= 7", "!= 0"]),
    max_size=4,
)
INI = st.lists(
    st.sampled_from(
        [
            "memory_limit = 64M",
            "memory_limit = -1",
            "post_max_size = 0",
            "open_basedir = /srv",
            "max_input_vars = 200MB",
            "session.auto_start = on",
            "x = y",
        ]
    ),
    max_size=4,
)


@st.composite
def applications(draw: st.DrawFn) -> Needs:
    names = draw(
        st.lists(st.lists(EXTENSIONS, min_size=1, max_size=2, unique=True).map(" | ".join), max_size=4, unique=True)
    )
    conditions = "".join(f'"{name}" = "{text}"\n' for name, text in draw(CONDITIONS).items())
    return needs(
        *names, settings=f"[settings.required]\n{conditions}", php=draw(st.sampled_from([">=8.0", ">=8.3", "<8.2"]))
    )


@settings(max_examples=examples(80), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    wanted=st.lists(applications(), min_size=1, max_size=2),
    ini=INI,
    late=INI,
    pool=INI,
    switched=st.sets(st.sampled_from(["ctype", "pdo", "mysqlnd", "pdo_mysql", "gd"])),
    present=st.booleans(),
)
def test_a_plan_proves_itself(
    tmp_path_factory: pytest.TempPathFactory,
    wanted: list[Needs],
    ini: list[str],
    late: list[str],
    pool: list[str],
    switched: set[str],
    present: bool,
) -> None:
    """Applied and checked again, every required need is met or listed as unresolved; and then nothing is left to do."""
    root = small_root(
        tmp_path_factory.mktemp("server"),
        ["ctype", "pdo", "mysqlnd", "pdo_mysql", "gd"],
        fpm_ini="\n".join(ini),
        extra={
            "etc/php/8.2/fpm/conf.d/97-late.ini": "\n".join(late),
            "etc/php/8.2/fpm/pool.d/www.conf": "[www]\nuser = www-data\n"
            + "".join(f"php_admin_value[{line.partition(' =')[0]}] = {line.partition('= ')[2]}\n" for line in pool),
        },
    )
    for name in {"ctype", "pdo", "mysqlnd", "pdo_mysql", "gd"} - switched:
        (root / f"etc/php/8.2/fpm/conf.d/20-{name}.ini").unlink()
    if not present:
        (root / "usr/sbin/php-fpm8.2").unlink()
    before = look(root)
    made = plan(
        [replace(application, name=f"nightlog{at}") for at, application in enumerate(wanted)], before, today=TODAY
    )
    listed = {(unresolved.application, unresolved.need) for unresolved in made.unresolved}
    for judgement in made.after:
        assert all(f.verdict == "met" or (judgement.needs.name, f.need) in listed for f in judgement.findings)
    assert made.complete is all(judgement.satisfied for judgement in made.after)
    # The files a plan writes have, on the server as surveyed anew, the effect that was foreseen.
    if present:
        write(root, {file.path: file.content for file in made.files})
        after = {runtime.label: runtime.settings for runtime in look(root).runtimes}
        assert {pool.runtime for pool in made.of(AddPool)} <= after.keys()
        foreseen = {judged.target.runtime.label: judged.target.runtime.settings for judged in made.after}
        for change in made.of(SetDirective):
            if change.name in after[change.runtime]:
                assert foreseen[change.runtime][change.name].value == after[change.runtime][change.name].value


def test_installed_versions_count_for_dependencies(tmp_path: Path) -> None:
    surveyed = look(small_root(tmp_path))
    with_library = replace(
        surveyed, installed=(*(surveyed.installed or ()), Installed("libodd1", "1.0"), Installed("libpicture2", "2.0"))
    )
    assert plan([needs("pdo_mysql", "gd")], with_library, today=TODAY).along == ()


def test_a_php_ini_without_a_directory_beside_it_is_never_replaced(tmp_path: Path) -> None:
    """Neither where its lines are known (a diff is made) nor where they are not (a page tells only values)."""
    root = small_root(tmp_path, fpm_ini="; a comment\nmemory_limit = 64M\npost_max_size = 8M\n")
    (root / "etc/php/8.2/fpm/conf.d").rename(root / "etc/php/8.2/fpm/other")
    surveyed = look(root)
    wanted = needs(settings='[settings.required]\nmemory_limit = ">= 256M"\nmax_input_vars = ">= 5000"\n')
    made = plan([wanted], surveyed, today=TODAY)
    assert made.files == ()
    expected = "@@ -2 +2 @@\n-memory_limit = 64M\n+memory_limit = 256M\n@@ -3,0 +4 @@\n+max_input_vars = 5000\n"
    assert [edit.diff.split("\n", 2)[2] for edit in made.edits] == [expected]
    unknown = replace(
        surveyed, runtimes=tuple(replace(runtime, ini_length=0, ini_lines={}) for runtime in surveyed.runtimes)
    )
    silent = plan([wanted], unknown, today=TODAY)
    assert (silent.files, silent.edits, silent.complete) == ((), (), False)
