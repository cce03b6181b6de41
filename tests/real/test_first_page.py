"""Sites that hand parts of them to different pools: what is said of the first request is what the real site answers."""

import pytest

from fundamentum.hosts.recording import open_recording
from fundamentum.survey.observe import survey
from tests.sites.cases import RELEASES
from tests.webservers.first_page import CASES, MODULES, Server, files_of, name_of, said

from .laboratory import REPORT, asked, running
from .running import recorded
from .test_laboratory import look

pytestmark = pytest.mark.real
PORT = 8186
LOAD = "".join(f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n" for name in MODULES[:2])
POOLS = {"55M": "two", "128M": "www"}


@pytest.mark.parametrize("server", list(CASES))
@pytest.mark.parametrize("release", list(RELEASES))
def test_the_first_request_is_answered_as_is_said(release: str, server: Server) -> None:
    files = {
        path: REPORT if path.endswith(".php") else text
        for path, text in files_of(server, PORT, RELEASES[release]).items()
    }
    if server == "apache":
        files["/etc/apache2/mods-enabled/zz-more.load"] = LOAD
    wrong = []
    with running(release, files, "nginx" if server == "nginx" else "apache-fpm", PORT) as root:
        surveyed, heard = look(root), survey(open_recording(recorded(root, "dash"), "x"))
        for case, about in CASES[server].items():
            name = name_of(server, case)
            answer = asked(PORT, name, "/")
            pool = POOLS[answer["ini"]["memory_limit"]] if "ini" in answer else "nothing"
            here = said(surveyed, name)
            if (pool, here) != (about["answers"], about.get("said", about["answers"])):
                wrong.append((case, pool, here, answer if "ini" not in answer else ""))
            if (told := said(heard, name)) not in (pool, "unclear"):
                wrong.append((case, pool, told, "in a recording"))
    assert not wrong
