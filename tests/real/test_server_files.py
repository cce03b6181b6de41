"""Whether Apache starts with its own files, held against real Apache of three releases; and what a plan makes of it."""

import http.client
import subprocess

import pytest

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.recording import open_recording
from fundamentum.model.findings import Finding
from fundamentum.plan.planner import plan
from fundamentum.survey.observe import survey
from tests.around import needs
from tests.sites.cases import RELEASES
from tests.small_root import TODAY
from tests.webservers.server_lines import LINES

from .laboratory import running
from .running import recorded, stop_web_servers
from .test_carried_out import carried_out
from .test_laboratory import look

pytestmark = pytest.mark.real
PORT = 8201
SITE = "<VirtualHost 127.0.0.1:{port}>\nServerName {name}\nDocumentRoot /srv/{name}\n<Directory /srv>\nRequire all granted\n</Directory>\n{more}</VirtualHost>\n"
FILES = {
    "/etc/apache2/sites-enabled/a.conf": f"Listen 127.0.0.1:{PORT}\nServerName none\n"
    + SITE.format(port=PORT, name="s0", more=""),
    "/srv/s0/index.php": "<?php echo 1;\n",
    "/srv/s1/index.php": "<?php echo 1;\n",
}


NEEDS = needs("")


def status(name: str) -> int:
    connection = http.client.HTTPConnection("127.0.0.1", PORT, timeout=20)
    connection.request("GET", "/index.php", headers={"Host": name})
    return connection.getresponse().status


@pytest.mark.parametrize("release", list(RELEASES))
def test_apache_starts_with_what_is_said_to_be_taken(release: str) -> None:
    wrong = []
    with running(release, FILES, "apache", PORT) as root:
        for line, said in LINES.items():
            root.write("/etc/apache2/conf-enabled/x.conf", f"{line}\n")
            tried = ["chroot", str(root.path), "apache2ctl", "-t"]
            answer = subprocess.run(tried, capture_output=True, text=True, check=False)
            (site,) = look(root).sites
            why = site.refused[0].why if site.refused else ""
            if (answer.returncode == 0) != (not why) or said not in why:
                wrong.append((line, why, answer.returncode, answer.stderr))
            elif release == "bookworm" and line in list(LINES)[:12:3]:
                (again,) = survey(open_recording(recorded(root, "dash"), "x")).sites
                assert again.refused == site.refused
    assert wrong == []


def of_php(root_path: object, site: str) -> Finding:
    surveyed = survey(DirectoryHost(root_path, "laboratory", live=True))  # type: ignore[arg-type]
    return check(NEEDS, surveyed, site).findings[0]


@pytest.mark.parametrize("stopped", [False, True])
def test_a_plan_switches_on_what_a_new_site_needs(stopped: bool) -> None:
    """A site whose file came in after Apache had started: it would not take it, and answers with the other one's."""
    more = "RewriteEngine On\nHeader set X-A b\n"
    with running("bookworm", FILES, "apache", PORT) as root:
        if stopped:
            stop_web_servers(root)
        root.write("/etc/apache2/sites-enabled/s1.conf", SITE.format(port=PORT, name="s1", more=more))
        finding = of_php(root.path, "s1")
        begins = "Apache does not start" if stopped else "Apache does not take its files"
        assert (finding.found or "").startswith(f"{begins}: /etc/apache2/sites-enabled/s1.conf:7: RewriteEngine")
        assert stopped or of_php(root.path, "s0").verdict == "met"
        made = plan([NEEDS], survey(DirectoryHost(root.path, "laboratory", live=True)), "s1", today=TODAY)
        assert not made.unresolved
        carried_out(root, made)
        assert (status("s0"), status("s1")) == (200, 200)


def test_a_site_that_is_linked_gets_the_modules_that_it_needs() -> None:
    with running("bookworm", FILES, "apache", PORT) as root:
        root.write("/etc/apache2/sites-available/s1.conf", SITE.format(port=PORT, name="s1", more="Header set X-A b\n"))
        made = plan([needs("")], survey(DirectoryHost(root.path, "laboratory", live=True)), "s1", today=TODAY)
        assert not made.unresolved
        carried_out(root, made)
        assert (status("s0"), status("s1")) == (200, 200)
