"""What a process manager takes of its files, and what it refuses to start with, held against real ones of three releases."""

import subprocess

import pytest

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.survey.probes import fpm_pools
from fundamentum.survey.probes.fpm_refusals import refusal
from tests.sites.cases import RELEASES
from tests.survey.pool_files import CASES, OF_BRANCHES, OF_SYSTEM, POOL

from .laboratory import made

pytestmark = pytest.mark.real
FILE = "/tmp/pool-files.conf"


@pytest.mark.parametrize(("release", "branch"), RELEASES.items())
def test_a_manager_starts_with_what_is_said_to_be_taken(release: str, branch: str) -> None:
    texts = {name: text for name, (text, _) in CASES.items()}
    texts |= {name: f"{POOL}{line}\n" for name, (line, _) in OF_BRANCHES.items()}
    if branch != "7.4":  # that one finds these out only once it starts
        texts |= {name: text for name, (text, _) in OF_SYSTEM.items()}
    root = made(release)
    wrong = []
    for name, text in texts.items():
        root.write(FILE, text)
        tried = ["chroot", str(root.path), f"/usr/sbin/php-fpm{branch}", "-t", "-y", FILE]
        done = subprocess.run(tried, capture_output=True, text=True, check=False)
        host = DirectoryHost(root.path, "x", live=True)
        found = fpm_pools.probe(host, FILE, {})
        said = refusal(host, found.lines, found.broken, branch)
        if (done.returncode == 0) != (said is None):
            wrong.append((name, done.returncode, said and said.why, done.stderr))
    (root.path / FILE.lstrip("/")).unlink()
    assert wrong == []
