"""The PHP file for those without a shell: uploaded to a real site, opened with its key, and what it tells."""

import time
import urllib.error
import urllib.request

import pytest

from fundamentum.check.judge import check
from fundamentum.kinds import asked_by
from fundamentum.survey.recorder.upload import LIFE, upload
from fundamentum.survey.upload_answer import survey_upload
from tests.around import needs
from tests.sites.cases import RELEASES, files_of

from .laboratory import asked, running
from .test_laboratory import QUIET

pytestmark = pytest.mark.real
PORT = 8164
WANTED = needs(
    '[settings.required]\nmemory_limit = ">= 128M"\n[directories.required]\ndata = "writable"\nclosed = "writable"\n'
    '[extensions]\nrequired = ["mbstring", "gd"]\n[uploads]\nlargest = "1M"\n'
)


def opened(key: str) -> bytes:
    request = urllib.request.Request(f"http://127.0.0.1:{PORT}/up.php?key={key}", headers={"Host": "a"})
    with urllib.request.urlopen(request, timeout=20) as answer:
        return bytes(answer.read())


CASES = [(release, "fpm: user file") for release in RELEASES]
CASES += [("bookworm", "module: access file"), ("bookworm", "fpm: pool without a function")]


@pytest.mark.parametrize(("release", "name"), CASES)
def test_what_php_can_see(release: str, name: str) -> None:
    server, files = files_of(name, RELEASES[release], PORT)
    with running(release, files, server, PORT) as root:
        now = time.time()
        text, key = upload(asked_by([WANTED]), now)
        expired, old_key = upload(None, now - LIFE - 60)
        root.write("/srv/a/up.php", text)
        for wrong in ("", "x", key[:-1]):
            with pytest.raises(urllib.error.HTTPError, match="404"):
                opened(wrong)
        data, truth = opened(key), asked(PORT)
        root.write("/srv/a/up.php", expired)
        with pytest.raises(urllib.error.HTTPError, match="404"):
            opened(old_key)
    survey = survey_upload(data, "x")
    (runtime,) = survey.runtimes
    assert (runtime.branch, survey.sites[0].root) == (RELEASES[release], "/srv/a")
    said = {name: setting.value for name, setting in runtime.settings.items() if name not in QUIET}
    assert said == {name: truth["ini"][name] or "" for name in said} and len(said) > 100
    assert {extension.shown for extension in runtime.extensions} >= set(truth["extensions"])
    verdicts = {str(finding.need): finding.verdict for finding in check(WANTED, survey).findings}
    assert verdicts == {
        "php": "met",
        "extension:mbstring": "met",
        "extension:gd": "unmet",
        "setting:memory_limit": "met",
        "directory:data": "met",
        "directory:closed": "unmet",
        "uploads:largest": "met",
    }
