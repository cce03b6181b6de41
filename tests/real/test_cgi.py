"""What is said of sites that run PHP as a CGI program, held against real Apache; and what a plan makes of it."""

import os

import pytest
from debian_root import Root

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.plan.planner import plan
from fundamentum.survey.observe import survey
from tests.around import needs
from tests.sites.cases import RELEASES
from tests.small_root import TODAY
from tests.webservers.cgi_sites import WRAPPER, made

from .laboratory import asked, running
from .test_carried_out import carried_out
from .test_laboratory import held_against, look

pytestmark = pytest.mark.real
PORT = 8199
NEEDS = needs('[settings.required]\nmemory_limit = ">= 1M"\n')


def prepared(root: Root, branch: str, fcgid: bool) -> None:
    """Without PHP inside Apache, and with what runs programs."""
    root.run("a2dismod", "-q", "-f", f"php{branch}")
    root.run("a2enmod", "-q", "actions", "cgi", *(["fcgid"] if fcgid else []))
    if (wrapper := root.path / WRAPPER.lstrip("/")).exists():
        os.chmod(wrapper, 0o755)


@pytest.mark.parametrize("seed", range(24))
def test_what_is_said_of_programs_is_so(seed: int) -> None:
    release = list(RELEASES)[seed % 3]
    branch = RELEASES[release]
    files, fcgid = made(seed, PORT, branch)
    with running(release, files, "apache", PORT, prepared=lambda root: prepared(root, branch, fcgid)) as root:
        answer, surveyed = asked(PORT), look(root)
        verdicts = [finding.verdict for finding in check(NEEDS, surveyed, "a").findings]
        if "failing" in answer:
            assert verdicts[0] != "met", answer
        else:
            wrong, _ = held_against(surveyed, answer)
            assert not wrong and verdicts[0] == "met"
        made_plan = plan([NEEDS], survey(DirectoryHost(root.path, "laboratory", live=True)), "a", today=TODAY)
        if made_plan.changes and not made_plan.unresolved:
            carried_out(root, made_plan)
            assert "ini" in asked(PORT)
