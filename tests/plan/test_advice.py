"""What a check advises about settings is what a plan for the application does."""

from pathlib import Path

import pytest

from fundamentum.changes.directive import SetDirective
from fundamentum.changes.directive_line import ChangeLine
from fundamentum.check.judge import check
from fundamentum.plan.planner import plan
from fundamentum.platforms.offers import Offers
from tests.small_root import TODAY, look, needs, small_root

POOL = "[www]\nuser = www-data\nlisten = /run/php/php8.2-fpm.sock\nlisten.owner = www-data\n"
BOTH = needs(
    settings='[settings.required]\nmemory_limit = ">= 1G"\nmax_input_vars = ">= 5000"\n[uploads]\nlargest = "200M"\n'
)
CASES: list[tuple[dict[str, str | bytes], str]] = [  # files; what is advised for memory_limit
    ({}, "set memory_limit = 1G in /etc/php/8.2/fpm/conf.d/90-nightlog.ini"),
    (
        {"etc/php/8.2/fpm/conf.d/95-own.ini": "memory_limit = 300M\n"},
        "set memory_limit = 1G in /etc/php/8.2/fpm/conf.d/zz-nightlog.ini",
    ),
    (
        {"etc/php/8.2/fpm/pool.d/www.conf": f"{POOL}php_admin_value[memory_limit] = 64M\n"},
        "set php_admin_value[memory_limit] = 1G in /etc/php/8.2/fpm/pool.d/00-nightlog-www.conf",
    ),
    ({"srv/nightlog/.user.ini": "memory_limit = 64M\n"}, "write memory_limit = 1G at /srv/nightlog/.user.ini:1"),
]


@pytest.mark.parametrize(("files", "line"), CASES)
def test_one_value_and_one_file_in_every_place(tmp_path: Path, files: dict[str, str | bytes], line: str) -> None:
    found = look(small_root(tmp_path, extra={**files, "etc/nginx/nginx.conf": NGINX}))
    judged = check(BOTH, found)
    advice = [finding for finding in judged.findings if finding.verdict == "unmet"]
    said = [one.remedy for one in advice if str(one.need) == "setting:memory_limit"]
    said += [link.remedy for one in advice for link in one.chain if link.name == "memory_limit" and link.remedy]
    assert set(said) == {line}
    made = plan([BOTH], found, today=TODAY)
    changes: list[SetDirective | ChangeLine] = [*made.of(SetDirective), *made.of(ChangeLine)]
    planned = {one.words(Offers(found)) for one in changes}
    words = {
        part for one in advice for part in (one.remedy or "").split("; ") if " in /etc/php" in part or "write" in part
    }
    assert planned <= words and made.complete


NGINX = """http { server { server_name nightlog; root /srv/nightlog; index index.php; client_max_body_size 0;
location ~ \\.php$ { fastcgi_pass unix:/run/php/php8.2-fpm.sock; } } }
"""
