"""What real web servers answer to addresses of each case: as it stands there, and as the survey tells."""

import urllib.error
import urllib.request

import pytest
from debian_root import Root

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.webservers.sites import probe
from tests.sites.cases import RELEASES
from tests.visits.cases import CASES, PATHS, files, told

from .laboratory import running

pytestmark = pytest.mark.real
PORT = 8176


def fetched(name: str, path: str) -> str:
    """What comes of one request: a script, a file or list as it is, or nothing."""
    request = urllib.request.Request(f"http://127.0.0.1:{PORT}{path}", headers={"Host": name})
    try:
        with urllib.request.urlopen(request, timeout=20) as answer:
            text = answer.read().decode("utf-8", "replace")
    except urllib.error.HTTPError as error:
        text = error.read().decode("utf-8", "replace")  # an error page may be a script
    if "FRONT" in text:
        return "/front.php"
    if "RAN" in text and "<?php" not in text:
        return path
    return "handed-out" if text in ("TEXT",) or "<?php" in text or "Index of" in text else ""


def answered(name: str) -> dict[str, str]:
    """What the real server answers, as the cases have it."""
    config = {fetched(name, f"/config/{file}") for file in ("x.txt", "x", "x.php")} - {"/front.php"}
    worst = next((one for one in ("handed-out", "/config/x.php") if one in config), "")
    listed = fetched(name, "/").replace("/front.php", "")  # instead of a list
    return {"page": fetched(name, "/no-such-page"), "config": worst, "list": listed}


@pytest.mark.parametrize("server", list(CASES))
@pytest.mark.parametrize("release", list(RELEASES))
def test_a_real_server_answers_so(release: str, server: str) -> None:
    branch = RELEASES[release]

    def prepared(root: Root) -> None:
        if server == "apache":
            root.run("a2enmod", "-q", "rewrite")

    kind = "apache-fpm" if server == "apache" else server
    with running(release, dict(files(server, branch, PORT)), kind, PORT, prepared=prepared) as root:
        sites = {
            site.name: site for site in probe(DirectoryHost(root.path, "laboratory"), [], list(PATHS.values())).served
        }
        wrong = []
        for number, (name, case) in enumerate(CASES[server].items()):
            real, visits = answered(f"visit{number}"), sites[f"visit{number}"].visits
            said = {what: told(visits[path]) for what, path in PATHS.items()}
            unclear = case.get("unclear", [])
            expected = {what: "unclear" if what in unclear else real[what] for what in PATHS}
            stands = {what: case.get(what) for what in PATHS}
            if said != expected or (stands != real):
                wrong.append((name, {"real": real, "said": said, "stands": stands}))
        assert not wrong, "\n".join(map(str, wrong))
