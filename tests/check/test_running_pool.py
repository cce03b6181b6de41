"""What a running pool said of itself wins over what its files say."""

from pathlib import Path

import pytest
from msgspec.structs import replace

from fundamentum.check.judge import check
from fundamentum.model.php import Answer
from tests.small_root import look, needs, small_root

CASES = [  # extensions that it has, value of memory_limit in it; verdict, state and words for each of the two
    (("ctype",), "300M", ("met", "active", ""), ("met", None, "")),
    ((), "300M", ("unmet", "awaiting-restart", "restart php8.2-fpm"), ("met", None, "")),
    (("ctype",), "64M", ("met", "active", ""), ("unmet", "awaiting-restart", "restart php8.2-fpm")),
]


@pytest.mark.parametrize(("extensions", "memory", "extension", "setting"), CASES)
def test_what_it_has_already_or_not_yet(
    tmp_path: Path,
    extensions: tuple[str, ...],
    memory: str,
    extension: tuple[str, str, str],
    setting: tuple[str, str | None, str],
) -> None:
    survey = look(small_root(tmp_path, fpm_ini="memory_limit = 300M\n"))
    (runtime,) = survey.runtimes
    heard = replace(survey, runtimes=(replace(runtime, answer=Answer(extensions, {"memory_limit": memory})),))
    wanted = needs("ctype", settings='[settings.required]\nmemory_limit = ">= 256M"\n')
    _, finding, two = check(wanted, heard).findings
    assert (finding.verdict, finding.state, finding.remedy or "") == extension
    assert (two.verdict, two.state, two.remedy or "") == setting


def test_what_it_has_no_longer_after_the_next_restart_is_remarked(tmp_path: Path) -> None:
    survey = look(small_root(tmp_path, fpm_ini="memory_limit = 64M\n"))
    (runtime,) = survey.runtimes
    heard = replace(survey, runtimes=(replace(runtime, answer=Answer(("gd",), {"memory_limit": "512M"})),))
    wanted = needs("gd", settings='[settings.required]\nmemory_limit = ">= 256M"\n')
    _, gd, memory = check(wanted, heard).findings
    assert (gd.verdict, gd.found) == ("met", "loaded, says the running pool") and "no longer" in (gd.remark or "")
    assert (memory.verdict, memory.found) == ("met", "512M") and "no longer met after" in (memory.remark or "")
    both = replace(runtime, answer=Answer((), {"memory_limit": "32M"}))
    _, _, memory = check(wanted, replace(survey, runtimes=(both,))).findings
    assert (memory.verdict, memory.state) == ("unmet", None) and "set memory_limit = 256M" in (memory.remedy or "")
