"""What the configuration takes away: functions, and what lies outside of the directories that PHP may open."""

import pytest

from fundamentum.effective.confinement import RUNNERS, disabled, fenced, judge_command, judge_directory
from fundamentum.model.findings import Finding, Target
from fundamentum.model.need_id import NeedId
from fundamentum.model.origin import Origin
from fundamentum.model.php import Runtime, Setting

MET = Finding(NeedId("command:git"), "required", "met", found="/usr/bin/git")
ALL = ",".join(RUNNERS)


def target(chroot: str = "", **values: str | None) -> Target:
    settings = {name: Setting(value, Origin("/etc/p.conf", 3)) for name, value in values.items()}
    return Target(Runtime("8.2", "fpm", "8.2.9", settings=settings, chroot=chroot), "named")


COMMANDS = [  # settings, verdict, words of the finding
    ({}, "met", "/usr/bin/git"),
    ({"disable_functions": ""}, "met", "/usr/bin/git"),
    ({"disable_functions": "phpinfo, exec"}, "met", "takes exec away (/etc/p.conf:3)"),
    ({"disable_functions": ALL}, "unmet", "lets PHP run no program (/etc/p.conf:3)"),
    ({"disable_functions": None}, "unknown", "look at disable_functions"),
    ({"open_basedir": "/srv:/usr/bin"}, "met", "/usr/bin/git"),
    ({"open_basedir": "/srv"}, "met", "PHP does not see its file"),
    ({"open_basedir": None}, "met", "PHP does not see its file"),
    ({"chroot": "/srv/jail"}, "unknown", "shut into /srv/jail"),
]


@pytest.mark.parametrize(("values", "verdict", "words"), COMMANDS)
def test_a_program_that_php_may_run_or_not(values: dict[str, str | None], verdict: str, words: str) -> None:
    finding = judge_command(MET, "/usr/bin/git", target(**values))  # type: ignore[arg-type]
    assert finding.verdict == verdict
    assert words in f"{finding.found} {finding.remedy} {finding.remark}"


DIRECTORIES = [  # settings, verdict before, verdict, words
    ({"open_basedir": "/srv/plates:/tmp"}, "met", "met", ""),
    ({"open_basedir": "/srv/plate"}, "met", "unmet", "add /srv/plates to open_basedir at /etc/p.conf:3"),
    ({"open_basedir": "C:\\x;/srv/plates"}, "met", "met", ""),
    ({"open_basedir": None}, "met", "unknown", "look at open_basedir at /etc/p.conf:3"),
    ({"open_basedir": None}, "unmet", "unmet", ""),
    ({"open_basedir": "/x"}, "unknown", "unknown", ""),
    ({"chroot": "/srv/jail"}, "met", "unknown", "other paths count"),
]


@pytest.mark.parametrize(("values", "before", "verdict", "words"), DIRECTORIES)
def test_a_directory_that_php_may_open_or_not(
    values: dict[str, str | None], before: str, verdict: str, words: str
) -> None:
    finding = Finding(NeedId("directory:x"), "required", before, found="there")  # type: ignore[arg-type]
    found = judge_directory(finding, "/srv/plates", target(**values))  # type: ignore[arg-type]
    assert (found.verdict, words in (found.remedy or "")) == (verdict, True)


def test_names_are_told_apart_as_php_does() -> None:
    gone, setting = disabled(target(disable_functions=" Exec system,mail,,"))
    assert gone == {"Exec", "system", "mail"} and setting is not None
    assert disabled(target()) == (frozenset(), None)
    assert fenced("/srv/a/b", target(open_basedir="/srv/a/")) is None
