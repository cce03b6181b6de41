"""Lines of PHP's configuration: in a php.ini that is there, in a new one, or in a file beside it."""

import pytest

from fundamentum.changes.base import Place
from fundamentum.changes.directive import SetDirective
from fundamentum.changes.extension_line import LoadByLine
from fundamentum.changes.steps import steps
from fundamentum.model.origin import Origin
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.survey import Survey
from fundamentum.model.system import System
from fundamentum.platforms import platform

LABEL, FILE = "8.3/cgi@/PHP", "/PHP/php.ini"
LINES = {2: ";extension=intl\r", 3: "memory_limit = 64M\r", 5: "; extension = php_gd.dll\r", 7: ";extension=zip2\r"}


def runtime(**fields: object) -> Runtime:
    settings = {"memory_limit": Setting("64M", Origin(FILE, 3)), "post_max_size": Setting("8M")}
    return Runtime("8.3", "cgi", "8.3.1", home="/PHP", settings=settings, **fields)  # type: ignore[arg-type]


def place(of: Runtime) -> Place:
    return Place(Survey(4, "x", System(family="windows"), runtimes=(of,)), platform("windows"), "nightlog")


THERE = runtime(ini_file=FILE, ini_lines=LINES, ini_length=9)
CHANGES = [  # change; hunk
    (LoadByLine("intl", "extension=intl", FILE, LABEL), ["@@ -2 +2 @@", "-;extension=intl\r", "+extension=intl\r"]),
    (LoadByLine("gd", "extension=gd", FILE, LABEL), ["@@ -5 +5 @@", "-; extension = php_gd.dll\r", "+extension=gd\r"]),
    (LoadByLine("zip", "extension=zip", FILE, LABEL), ["@@ -9,0 +10 @@", "+extension=zip\r"]),
    (
        SetDirective("memory_limit", "64M", "1G", FILE, LABEL),
        ["@@ -3 +3 @@", "-memory_limit = 64M\r", "+memory_limit = 1G\r"],
    ),
    (SetDirective("post_max_size", "8M", "", FILE, LABEL), ["@@ -9,0 +10 @@", "+post_max_size =\r"]),
]


@pytest.mark.parametrize(("change", "hunk"), CHANGES)
def test_a_line_takes_the_place_of_its_comment_or_of_itself_or_comes_last(
    change: LoadByLine | SetDirective, hunk: list[str]
) -> None:
    (step,) = steps([change], place(THERE))
    assert step.operation.diff.split("\n")[2:-1] == hunk  # type: ignore[attr-defined]


def test_a_php_ini_that_is_not_there_is_written_whole_and_others_are_files_of_their_own() -> None:
    changes = [change for change, _ in CHANGES]
    (step,) = steps(changes, place(runtime(extension_dir_line='extension_dir = "ext"')))
    assert step.operation.content.splitlines() == [  # type: ignore[attr-defined]
        "; Written as planned by fundamentum.", 'extension_dir = "ext"', "extension=intl", "extension=gd", "extension=zip",
        "memory_limit = 1G", "post_max_size =",
    ]  # fmt: skip
    directory = place(runtime(ini_file=FILE, scan_dir="/PHP/conf.d"))
    there = LoadByLine("intl", "extension=intl", "/PHP/conf.d/30-intl.ini", LABEL)
    (step,) = steps([there], directory)
    assert step.operation.content.splitlines() == ["; As planned by fundamentum.", "extension=intl"]  # type: ignore[attr-defined]
    (step,) = steps([SetDirective("memory_limit", "64M", "1G", "/PHP/conf.d/90-a.ini", LABEL)], directory)
    content = "; Limits for nightlog, as planned by fundamentum.\nmemory_limit = 1G\n"
    assert step.operation.content == content  # type: ignore[attr-defined]
    assert (there.about, there.file, there.concerns(directory.survey.runtimes[0])) == (
        "intl",
        "/PHP/conf.d/30-intl.ini",
        True,
    )
