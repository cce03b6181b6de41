"""Sites that tell PHP which script to run."""

from pathlib import Path

import pytest

from tests.small_root import look, small_root
from tests.webservers.told_scripts import APACHE, NGINX, apache, nginx

PARAMETERS = "fastcgi_param REQUEST_METHOD $request_method;\n"
WHOLE = f"{PARAMETERS}fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;\n"


@pytest.fixture(scope="module")
def root(tmp_path_factory: pytest.TempPathFactory) -> Path:
    files: dict[str, str | bytes] = {
        "etc/nginx/nginx.conf": f"http {{\n{nginx(80)}}}\n",
        "etc/nginx/fastcgi.conf": WHOLE,
        "etc/nginx/fastcgi_params": PARAMETERS,
        "etc/apache2/apache2.conf": f"LoadModule rewrite_module /m\n{apache(81)}",
        "srv/a/index.php": "<?php\n",
    }
    return small_root(tmp_path_factory.mktemp("told"), [], None, "", files)


@pytest.mark.parametrize(("server", "rows"), [("nginx", NGINX), ("apache2", APACHE)])
def test_what_keeps_php_from_the_script(root: Path, server: str, rows: list[tuple[str, bool, str]]) -> None:
    sites = {site.name: site for site in look(root).sites if site.server == server}
    for n, (lines, answers, words) in enumerate(rows):
        stopped = [barrier.why for barrier in sites[f"s{n}"].barriers if barrier.stops]
        assert (not stopped, words in "; ".join(stopped)) == (answers, True), lines
