"""Which of several PHPs answers a visitor's first request for a site, as ``first_page.toml`` has it from real servers."""

from pathlib import Path

import pytest

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.survey.observe import survey
from tests.small_root import small_root

from .first_page import CASES, MODULES, Server, files_of, name_of, said

NGINX = "http {\n    include /etc/nginx/sites-enabled/*;\n}\n"
LOAD = "".join(f"LoadModule {name}_module modules/mod_{name}.so\n" for name in MODULES)


@pytest.mark.parametrize("server", list(CASES))
def test_what_answers_the_first_request(server: Server, tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {"etc/nginx/fastcgi.conf": "", "etc/nginx/nginx.conf": NGINX}
    if server == "apache":
        files = {"etc/apache2/apache2.conf": f"{LOAD}Include sites-enabled/*.conf\n"}
    files |= {path.removeprefix("/"): text for path, text in files_of(server, 80).items()}
    surveyed = survey(DirectoryHost(small_root(tmp_path, extra=files), "vega"))
    expected = {case: about.get("said", about["answers"]) for case, about in CASES[server].items()}
    assert {case: said(surveyed, name_of(server, case)) for case in expected} == expected
