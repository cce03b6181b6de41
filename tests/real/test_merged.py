"""What is said of a site is what the site itself says, on servers that many places configure, made at random."""

import pytest

from tests.sites.cases import RELEASES
from tests.sites.merged import apache, nginx

from .laboratory import REPORT, asked, running
from .test_laboratory import held_against, look

pytestmark = pytest.mark.real
PORT = 8189
SERVERS = [(list(RELEASES)[seed % 3], seed) for seed in range(1, 13)]


@pytest.mark.parametrize("server", ["nginx", "apache"])
@pytest.mark.parametrize(("release", "seed"), SERVERS)
def test_what_is_said_is_so_wherever_it_is_set(release: str, seed: int, server: str) -> None:
    branch = RELEASES[release]
    files = (nginx if server == "nginx" else apache)(seed, PORT, branch) | {"/srv/a/sub/other.php": REPORT}
    with running(release, files, server, PORT) as root:
        survey = look(root)
        first, other = asked(PORT), asked(PORT, path="/sub/other.php")
    (site,) = [site for site in survey.sites if site.name == "a"]
    assert bool(site.failing) == ("failing" in first), (site.failing, first)
    for answer, below in ((first, ""), (other, "sub")):
        if "failing" not in answer:
            wrong, _ = held_against(survey, answer, below=below)
            assert not wrong
