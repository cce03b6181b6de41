"""Whether visitors reach a site's PHP, held against real web servers: sites that let some of them in, or nobody."""

import http.client

import pytest

from fundamentum.check.judge import check
from fundamentum.errors import FundamentumError
from tests.small_root import needs
from tests.webservers.barred_sites import sites

from .laboratory import running
from .test_laboratory import look

pytestmark = pytest.mark.real
PORT = 8188
SITES = 40
LOAD = "".join(
    f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n" for name in ("rewrite", "access_compat")
)
SCRIPT = "<?php echo 'PHP';"


def answers(site: str, path: str) -> bool:
    """Whether PHP answers a request from this machine, whatever status it gives."""
    connection = http.client.HTTPConnection("127.0.0.1", PORT, timeout=20)
    connection.request("GET", path, headers={"Host": site})
    return connection.getresponse().read().startswith(b"PHP")


@pytest.mark.parametrize("seed", [1, 2])
@pytest.mark.parametrize("server", ["nginx", "apache"])
def test_who_is_kept_from_a_site_is_told(server: str, seed: int) -> None:
    files = sites(server, seed, PORT, SITES)
    files |= {f"/srv/s{at}/{name}.php": SCRIPT for at in range(SITES) for name in ("index", "other")}
    if server == "apache":  # which the package may have loaded already
        files["/etc/apache2/mods-enabled/access_compat.load"] = ""
        files["/etc/apache2/mods-enabled/0.load"] = LOAD
    wrong: list[tuple[object, ...]] = []
    counted = {"stopped": 0, "reached": 0, "noted": 0}
    with running("bookworm", files, server, PORT) as root:
        survey = look(root)
        for at in range(SITES):
            first, script = answers(f"s{at}", "/"), answers(f"s{at}", "/index.php")
            try:
                judged = check(needs(), survey, f"s{at}").findings[0]
            except FundamentumError as error:
                wrong.append((at, str(error)))
                continue
            if judged.verdict == "unmet" and first:
                wrong.append((at, f"reached, and said to be stopped: {judged.found}"))
            counted["stopped" if judged.verdict == "unmet" else "reached"] += 1
            counted["noted"] += judged.verdict == "met" and not first and "a request for /" in (judged.remark or "")
            certain = all(
                word not in "".join(_of(files, at)) for word in ("127.0.0.1;", "ip 127", "satisfy", "error_page")
            )
            if (
                judged.verdict == "met"
                and certain
                and not first
                and not script
                and "with an error" not in (judged.remark or "")
            ):
                wrong.append((at, "stopped, and said to be reached", *_of(files, at)))
    assert not wrong
    assert min(counted.values()) > 0, counted


def _of(files: dict[str, str], at: int) -> list[str]:
    return [text for path, text in files.items() if f"/s{at}." in f"{path}." or f"/s{at}/.h" in path]
