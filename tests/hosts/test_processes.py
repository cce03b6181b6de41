"""What runs on this machine, asked of a process that is started for it."""

import shutil
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from fundamentum.hosts.processes import running, variables_in

TITLE = "observatory: master process at night"
"""Nothing that tests beside this one would take for a process of PHP's, and end."""


@pytest.fixture
def process() -> Iterator[str]:
    """A program under another title, with variables of its own."""
    program = shutil.which("sleep")
    if program is None or not Path("/proc/self/environ").exists():
        pytest.skip("there is no /proc here, or no program that waits")
    with subprocess.Popen(
        [TITLE, "60"], executable=program, env={"PHPRC": "/etc/php", "PASSWORD": "planted"}
    ) as started:
        while not Path(f"/proc/{started.pid}/cmdline").read_bytes():  # its own words stand there a moment later
            time.sleep(0.01)
        yield program
        started.kill()


def test_a_process_is_told_with_its_program_its_start_and_the_variables_that_are_asked_for(process: str) -> None:
    seen = running(Path("/"), ["nginx", "observatory: master process [a-z ]+"], ("PHPRC",))
    (found,) = [one for one in seen.processes if one.title.startswith(TITLE)]
    assert (found.program, found.variables) == (str(Path(process).resolve()), (("PHPRC", "/etc/php"),))
    assert abs(found.started - time.time()) < 60 and "planted" not in repr(seen)
    assert not [one for one in running(Path("/"), ["nothing that runs"]).processes if one.title.startswith(TITLE)]


def test_a_process_in_another_root_is_not_this_server_s(process: str, tmp_path: Path) -> None:
    assert running(tmp_path, [TITLE]).processes == ()


@pytest.mark.parametrize(("lines", "found"), [
    ([b"A=1", b"B=2"], (("B", "2"),)), ([b"A=1"], ()), ([b"nginx: worker", b"B=2"], None), ([], None),
])  # fmt: skip
def test_variables(lines: list[bytes], found: tuple[tuple[str, str], ...] | None) -> None:
    assert variables_in(lines, ("B",)) == found
