"""What a check advises about settings is what a plan for the application does."""

from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fundamentum.changes.directive import SetDirective
from fundamentum.changes.directive_line import ChangeLine
from fundamentum.check.judge import check
from fundamentum.check.remedies import remedies
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds import asked_by
from fundamentum.model.needs import LEVELS
from fundamentum.plan.planner import plan
from fundamentum.platforms.offers import Offers
from fundamentum.survey.observe import survey
from tests.examples import examples
from tests.small_root import MODULE, TODAY, look, needs, small_root

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
    surveyed = look(small_root(tmp_path, extra={**files, "etc/nginx/nginx.conf": NGINX}))
    judged = check(BOTH, surveyed)
    advice = [finding for finding in judged.findings if finding.verdict == "unmet"]
    said = [finding.remedy for finding in advice if str(finding.need) == "setting:memory_limit"]
    said += [link.remedy for finding in advice for link in finding.chain if link.name == "memory_limit" and link.remedy]
    assert set(said) == {line}
    made = plan([BOTH], surveyed, today=TODAY)
    changes: list[SetDirective | ChangeLine] = [*made.of(SetDirective), *made.of(ChangeLine)]
    planned = {change.words(Offers(surveyed)) for change in changes}
    words = {
        part
        for finding in advice
        for part in (finding.remedy or "").split("; ")
        if " in /etc/php" in part or "write" in part
    }
    assert planned <= words and made.complete


NGINX = """http { server { server_name nightlog; root /srv/nightlog; index index.php; client_max_body_size 0;
location ~ \\.php$ { fastcgi_pass unix:/run/php/php8.2-fpm.sock; } } }
"""


SETTINGS = ("memory_limit", "post_max_size", "upload_max_filesize", "max_input_vars", "max_execution_time")
FILES: dict[str, str | bytes] = {
    "etc/php/8.2/fpm/conf.d/95-own.ini": "memory_limit = 300M\nmax_input_vars = 90\n",
    "etc/php/8.2/fpm/pool.d/www.conf": f"{POOL}php_admin_value[memory_limit] = 64M\nrequest_terminate_timeout = 9s\n",
    "srv/nightlog/.user.ini": "memory_limit = 64M\n",
    "usr/lib/php/20220829/gd.so": MODULE,
    "usr/lib/php/20220829/dom.so": MODULE,
    "etc/php/8.2/mods-available/dom.ini": "extension=dom.so\n",
}


@st.composite
def servers_and_needs(draw: st.DrawFn) -> tuple[dict[str, str | bytes], str, tuple[str, ...]]:
    """Files of a server, tables of a needs file, and extensions."""
    chosen = draw(st.sets(st.sampled_from(sorted(FILES))))
    wanted = draw(st.dictionaries(st.sampled_from(SETTINGS), st.integers(1, 2000), max_size=3))
    lines = "".join(f'{name} = ">= {number}"\n' for name, number in wanted.items())
    level = draw(st.sampled_from(("required", "recommended")))
    more = draw(
        st.sets(st.sampled_from(('[uploads]\nlargest = "40M"\n', '[requests]\nlongest = "5m"\n', TASK, PLATES)))
    )
    extensions = draw(st.sets(st.sampled_from(("gd", "dom", "imap | gd", "pdo_mysql", "nowhere")), max_size=3))
    return (
        {name: FILES[name] for name in chosen},
        f"[settings.{level}]\n{lines}{''.join(sorted(more))}",
        tuple(extensions),
    )


TASK = '[tasks.required]\n"bin/x.php" = "every 15m"\n'
PLATES = '[directories.recommended]\n"var/plates" = "writable"\n'


@settings(max_examples=examples(60), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(servers_and_needs())
def test_what_is_advised_for_all_needs_together_is_what_a_plan_does_first(
    tmp_path_factory: pytest.TempPathFactory, made: tuple[dict[str, str | bytes], str, tuple[str, ...]]
) -> None:
    files, tables, extensions = made
    wanted = needs(*extensions, settings=tables)
    root = small_root(tmp_path_factory.mktemp("server"), extra={**files, "etc/nginx/nginx.conf": NGINX})
    surveyed = survey(DirectoryHost(root, "mizar"), asked_by([wanted]))
    judged = check(wanted, surveyed)
    advised = {change.key: change for finding in judged.all_findings for change in finding.changes}
    planned = plan([wanted], surveyed, today=TODAY)
    assert advised == remedies(planned.before, surveyed, "nightlog", LEVELS).changes
    keys = {change.key for change in planned.changes}
    assert set(advised) <= keys
    for finding in judged.all_findings:
        assert bool(finding.changes) == bool(
            [demand for demand in finding.demands if demand.lacking and demand.settled("x", surveyed, [])]
        )
