"""What is said of the size of uploads, held against real web servers: sites that limit it in several places."""

import http.client
from contextlib import suppress
from random import Random

import pytest

from fundamentum.check.judge import check
from tests.around import needs
from tests.webservers.body_limits import apache, nginx

from .laboratory import running
from .test_laboratory import look

pytestmark = pytest.mark.real
PORT = 8187
SITES = 24
SCRIPT = "<?php echo 'OK', isset($_FILES['f']) ? $_FILES['f']['error'] : '';"
WIDE = "post_max_size = 100M\nupload_max_filesize = 100M\nmemory_limit = 300M\n"
ASKED = ("/", "/index.php", "/another.php", "/page")
UPLOADS = (1_200_000, 1_700_000, 2_500_000, 4_000_000, 8_000_000)


def taken(site: str, path: str, size: int) -> bool | None:
    """Whether a site takes a file of this size; None where there is no such page."""
    head = b'--x\r\nContent-Disposition: form-data; name="f"; filename="plate"\r\n\r\n'
    connection = http.client.HTTPConnection("127.0.0.1", PORT, timeout=20)
    with suppress(BrokenPipeError, ConnectionResetError):  # it is refused before all of it is sent
        body = head + b"x" * size + b"\r\n--x--\r\n"
        connection.request("POST", path, body, {"Host": site, "Content-Type": "multipart/form-data; boundary=x"})
        answer = connection.getresponse()
        text = answer.read()
        return None if answer.status == 404 else text == b"OK0"
    return False


@pytest.mark.parametrize("seed", [1, 2])
@pytest.mark.parametrize("server", ["nginx", "apache"])
def test_no_upload_is_said_to_pass_that_is_refused(server: str, seed: int) -> None:
    files = (nginx if server == "nginx" else apache)(Random(seed), PORT, SITES)
    files |= {f"/etc/php/8.2/{sapi}/conf.d/99-wide.ini": WIDE for sapi in ("fpm", "apache2")}
    files |= {f"/srv/a/{name}.php": SCRIPT for name in ("index", "another")}
    wrong, verdicts = [], []
    with running("bookworm", files, server, PORT) as root:
        survey = look(root)
        for number in range(SITES):
            fallback = server == "nginx" or f"s{number}\nDocumentRoot /srv/a\nFallback" in "".join(files.values())
            for size in UPLOADS:
                judged = check(needs(f'[uploads]\nlargest = "{size}"\n'), survey, f"s{number}")
                verdict = next(finding.verdict for finding in judged.findings if str(finding.need) == "uploads:largest")
                answers = {path: taken(f"s{number}", path, size) for path in ASKED[: None if fallback else 3]}
                verdicts.append((verdict, all(answers.values())))
                if verdict == "met" and False in answers.values():
                    wrong.append((number, size, answers))
    assert not wrong
    assert {("met", True), ("unmet", False)} <= set(verdicts)
    alarms = verdicts.count(("unmet", True))
    assert alarms * 5 < len(verdicts), "what is refused nowhere is rarely said to be"
