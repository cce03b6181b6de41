"""Whether nginx starts with its own files, held against real nginx of three releases."""

import subprocess

import pytest

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.recording import open_recording
from fundamentum.survey.observe import survey
from tests.around import needs
from tests.sites.cases import RELEASES
from tests.webservers.nginx_lines import IN_SERVER

from .laboratory import running
from .running import recorded, stop_web_servers
from .test_laboratory import look

pytestmark = pytest.mark.real
PORT = 8202
SITE = "server {{\n listen 127.0.0.1:{port}; server_name {name}; root /srv/s0; index index.php;\n location ~ \\.php$ {{ include fastcgi_params; fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name; fastcgi_pass unix:/run/php/php{branch}-fpm.sock; }}\n{more}\n}}\n"
BAD = "/etc/nginx/sites-enabled/b.conf"


def files(branch: str) -> dict[str, str]:
    site = SITE.format(port=PORT, name="s0", more="", branch=branch)
    return {"/etc/nginx/sites-enabled/a.conf": site, "/srv/s0/index.php": "<?php echo 1;\n"}


@pytest.mark.parametrize("release", list(RELEASES))
def test_nginx_starts_with_what_is_said_to_be_taken(release: str) -> None:
    wrong = []
    branch = RELEASES[release]
    with running(release, files(branch), "nginx", PORT) as root:
        for line, said in IN_SERVER.items():
            text = SITE.replace(" root /srv/s0; index index.php;", "").format(
                port=PORT, name="s1", more=line, branch=branch
            )
            root.write(BAD, text)
            tried = ["chroot", str(root.path), "nginx", "-t"]
            answer = subprocess.run(tried, capture_output=True, text=True, check=False)
            site = next(site for site in look(root).sites if site.name == "s0")
            why = site.refused[0].why if site.refused else ""
            if (answer.returncode == 0) != (not why) or said not in why or (why and f" in {BAD}:" not in answer.stderr):
                wrong.append((line, why, answer.returncode, answer.stderr))
            elif release == "bookworm" and line in list(IN_SERVER)[:12:3]:
                again = survey(open_recording(recorded(root, "dash"), "x")).sites
                assert next(site for site in again if site.name == "s0").refused == site.refused
    assert wrong == []


@pytest.mark.parametrize("stopped", [False, True])
def test_a_running_nginx_answers_with_what_it_had_read(stopped: bool) -> None:
    with running("bookworm", files("8.2"), "nginx", PORT) as root:
        root.write(BAD, SITE.format(port=PORT, name="s1", more="alias /srv/x;", branch="8.2"))
        if stopped:
            stop_web_servers(root)
        surveyed = survey(DirectoryHost(root.path, "laboratory", live=True))
        findings = {name: check(needs(""), surveyed, name).findings[0] for name in ("s0", "s1")}
        if stopped:
            assert all((one.found or "").startswith("nginx does not start: ") for one in findings.values())
        else:
            assert findings["s0"].verdict == "met" and "would not start again" in (findings["s0"].remark or "")
            assert (findings["s1"].found or "").startswith(f"nginx does not take its files: {BAD}:4: alias")
