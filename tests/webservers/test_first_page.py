"""Which of several PHPs answers a visitor's first request for a site, as ``first_page.toml`` has it from real servers."""

from collections.abc import Callable
from functools import cache
from pathlib import Path

import pytest

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.survey import Survey
from fundamentum.survey.observe import survey
from tests.small_root import small_root

from .first_page import CASES, MODULES, Server, files_of, name_of, said

NGINX = "http {\n    include /etc/nginx/sites-enabled/*;\n}\n"
LOAD = "".join(f"LoadModule {name}_module modules/mod_{name}.so\n" for name in MODULES)
ROWS = [(server, case) for server in CASES for case in CASES[server]]


@pytest.fixture(scope="module")
def seen(tmp_path_factory: pytest.TempPathFactory) -> Callable[[Server], Survey]:
    """What is seen of a server that has all of its sites, looked at once."""

    @cache
    def of(server: Server) -> Survey:
        files: dict[str, str | bytes] = {"etc/nginx/fastcgi.conf": ""} if server == "nginx" else {}
        files["etc/nginx/nginx.conf" if server == "nginx" else "etc/apache2/apache2.conf"] = (
            NGINX if server == "nginx" else f"{LOAD}Include sites-enabled/*.conf\n"
        )
        files |= {path.removeprefix("/"): text for path, text in files_of(server, 80).items()}
        root: Path = small_root(tmp_path_factory.mktemp(server), extra=files)
        return survey(DirectoryHost(root, "vega"))

    return of


@pytest.mark.parametrize(("server", "case"), ROWS)
def test_what_answers_the_first_request(server: Server, case: str, seen: Callable[[Server], Survey]) -> None:
    expected = CASES[server][case].get("said", CASES[server][case]["answers"])
    assert said(seen(server), name_of(server, case)) == expected
