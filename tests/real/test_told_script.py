"""Whether sites answer that tell PHP in several ways which script to run, held against real ones; and plans for them."""

import pytest

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.plan.planner import plan
from fundamentum.survey.observe import survey
from tests.around import needs
from tests.small_root import TODAY
from tests.webservers.told_scripts import APACHE, NGINX, apache, nginx

from .laboratory import asked, running
from .test_carried_out import carried_out
from .test_laboratory import look

pytestmark = pytest.mark.real
PORT = 8200
NEEDS = needs("")
FILES = {
    "nginx": {"/etc/nginx/sites-enabled/site": nginx(PORT)},
    "apache-fpm": {"/etc/apache2/sites-enabled/site.conf": apache(PORT)},
}


@pytest.mark.parametrize(("server", "rows"), [("nginx", NGINX), ("apache-fpm", APACHE)])
def test_what_is_said_of_the_script_is_so(server: str, rows: list[tuple[str, bool, str]]) -> None:
    rewriting = (lambda root: root.run("a2enmod", "-q", "rewrite")) if server == "apache-fpm" else None
    with running("bookworm", FILES[server], server, PORT, prepared=rewriting) as root:
        surveyed = look(root)
        for n, (lines, answers, words) in enumerate(rows):
            answer = "ini" in asked(PORT, f"s{n}", "/")
            said = check(NEEDS, surveyed, f"s{n}").findings[0]
            assert (answer, said.verdict == "met", words in (said.found or "")) == (answers, answers, True), (
                lines,
                said,
            )


@pytest.mark.parametrize("number", [n for n, (_, answers, _) in enumerate(NGINX) if not answers])
def test_a_plan_lets_php_run_it(number: int) -> None:
    """One that cannot is not said to: what is to be written there is a person's to decide."""
    with running("bookworm", FILES["nginx"], "nginx", PORT) as root:
        surveyed = survey(DirectoryHost(root.path, "laboratory", live=True))
        made = plan([NEEDS], surveyed, f"s{number}", today=TODAY)
        assert made.complete is not made.empty or made.unresolved
        if made.complete:
            carried_out(root, made)
            assert "ini" in asked(PORT, f"s{number}", "/")
            root.run("sh", "/root/plan.sh", "--undo")
            assert (root.path / "etc/nginx/sites-enabled/site").read_text() == nginx(PORT)
