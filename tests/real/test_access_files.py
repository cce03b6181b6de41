"""What is said of files in directories that Apache may not take, held against real Apache; and what a plan makes of it."""

import http.client

import pytest

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.recording import open_recording
from fundamentum.plan.planner import plan
from fundamentum.survey.observe import survey
from tests.around import needs
from tests.sites.cases import RELEASES
from tests.small_root import TODAY
from tests.webservers.access_lines import DOUBTFUL, LINES, TAKEN, said_of

from .laboratory import running
from .running import recorded
from .test_carried_out import carried_out
from .test_laboratory import look

pytestmark = pytest.mark.real
PORT = 8198
NEEDS = needs("")
SITE = """\
<VirtualHost 127.0.0.1:{port}>
ServerName s{n}
DocumentRoot /srv/s{n}
<Directory /srv/s{n}>
Require all granted
AllowOverride {allowed}
</Directory>
</VirtualHost>
"""


def status(name: str) -> int:
    connection = http.client.HTTPConnection("127.0.0.1", PORT, timeout=20)
    connection.request("GET", "/index.php", headers={"Host": name})
    return connection.getresponse().status


def sites(*rows: tuple[str, str]) -> dict[str, str]:
    """Files of sites: what each allows such a file, and the file."""
    hosts = "".join(SITE.format(port=PORT, n=n, allowed=allowed) for n, (allowed, _) in enumerate(rows))
    files = {"/etc/apache2/sites-enabled/sites.conf": f"Listen 127.0.0.1:{PORT}\nServerName none\n{hosts}"}
    for n, (_, text) in enumerate(rows):
        files |= {f"/srv/s{n}/.htaccess": f"{text}\n", f"/srv/s{n}/index.php": "<?php echo 1;\n"}
    return files


@pytest.mark.parametrize("release", list(RELEASES))
def test_apache_takes_what_is_said_to_be_taken(release: str) -> None:
    with running(release, sites(*((allowed, text) for allowed, text, _ in LINES)), "apache", PORT) as root:
        answers = {f"s{n}": status(f"s{n}") for n in range(len(LINES))}
        found = {site.name: site for site in look(root).sites}
        again = found
        if release == "bookworm":
            again = {site.name: site for site in survey(open_recording(recorded(root, "dash"), "x")).sites}
    wrong = [
        (*row, said_of(found[name]), said_of(again[name]), answers[name])
        for row, name in zip(LINES, answers, strict=True)
        if said_of(found[name]) != row[2] or (answers[name] == 200) != (row[2] in (TAKEN, DOUBTFUL))
    ]
    assert not wrong, wrong
    # A recording holds the names of lines, and not all that is said in them.
    differing = [row for row, name in zip(LINES, answers, strict=True) if said_of(again[name]) != row[2]]
    assert [row for row in differing if said_of(again[f"s{LINES.index(row)}"]) != TAKEN] == []
    assert len(differing) < 12, differing  # none where it was not recorded


def test_a_plan_switches_on_what_such_a_file_needs() -> None:
    """Its site answers then; the other, which has lines for the case that the module is there, is told of."""
    rows = ("All", "RewriteEngine On\nRewriteRule ^x$ /index.php\nHeader set X-A b"), ("All", "")
    with running("bookworm", sites(*rows), "apache", PORT) as root:
        surveyed = survey(DirectoryHost(root.path, "laboratory", live=True))
        made = plan([NEEDS], surveyed, "s0", today=TODAY)
        assert status("s0") == 500 and not made.unresolved
        told = " ".join(made.consequences.values())
        assert "all 2 sites have rewrite and headers then" in told
        carried_out(root, made)
        assert (status("s0"), status("s1")) == (200, 200)
        anew = survey(DirectoryHost(root.path, "laboratory", live=True))
        assert check(NEEDS, anew, "s0").satisfied
        root.run("sh", "/root/plan.sh", "--undo")
        assert status("s0") == 500
