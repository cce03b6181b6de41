"""A pool of an application's own: what it is called, and where its file and its socket stand."""

from pathlib import Path

import pytest
from msgspec.structs import replace

from fundamentum.changes.pool import AddPool
from fundamentum.model.needs import Needs
from fundamentum.model.php import Setting
from fundamentum.plan.planner import plan
from fundamentum.plan.separate_pools import own_pool
from fundamentum.report.plans.script import as_script
from fundamentum.untrusted.secrets import WITHHELD
from tests.around import needs
from tests.small_root import TODAY, look, small_root, write

OF = {"branch": "8.2", "pool": "www", "listen": "/run/php/php8.2-fpm.sock"}


@pytest.mark.parametrize(
    ("there", "planned", "name"),
    [
        ([], [], "nightlog"),
        ([{"pool": "nightlog"}], [], "nightlog-2"),
        ([{"pool": "nightlog", "branch": "7.4"}], [], "nightlog"),
        ([{"pool": "nightlog"}, {"pool": "nightlog-2"}], [], "nightlog-3"),
        ([], ["nightlog"], "nightlog-2"),
        ([{"pool": "nightlog-2"}], ["nightlog"], "nightlog-3"),
    ],
)
def test_a_name_that_no_other_pool_of_the_branch_has(
    tmp_path: Path, there: list[dict[str, str]], planned: list[str], name: str
) -> None:
    survey = look(small_root(tmp_path))
    runtime = next(runtime for runtime in survey.runtimes if runtime.sapi == "fpm")
    others = [replace(runtime, **(OF | other)) for other in there]
    pools = {one: AddPool(one, "", "", "", "", "") for one in planned}
    pool = own_pool(needs(""), runtime, replace(survey, runtimes=(runtime, *others)), pools)
    assert (pool.name, pool.file) == (name, f"/etc/php/8.2/fpm/pool.d/{name}.conf")
    assert pool.listen == f"/run/php/php8.2-fpm-{name}.sock"


@pytest.mark.parametrize(
    ("listen", "folder"),
    [
        ("/srv/run/a.sock", "/srv/run"),
        ("127.0.0.1:9000", "/run/php"),
        (None, "/run/php"),
        ("/srv/r n/a.sock", "/run/php"),
    ],
)
def test_the_socket_stands_beside_that_of_the_other_pool(tmp_path: Path, listen: str | None, folder: str) -> None:
    survey = look(small_root(tmp_path))
    runtime = replace(next(runtime for runtime in survey.runtimes if runtime.sapi == "fpm"), listen=listen)
    assert own_pool(needs(""), runtime, survey).listen == f"{folder}/php8.2-fpm-nightlog.sock"


POOL = """\
[www]
user = ida
group = stars
listen = /run/php/php8.2-fpm.sock
listen.owner = www-data
listen.group = adm
listen.mode = 0666
php_admin_value[open_basedir] = /srv:/tmp
php_admin_value[max_input_vars] = 7000
php_value[memory_limit] = 300M
php_flag[display_errors] = on
php_value[mail.log] = /var/log/$pool.log
request_terminate_timeout = 77
security.limit_extensions = .php
clear_env = no
"""


def _wanting(name: str, limit: str) -> Needs:
    return needs(f'[settings.required]\nmemory_limit = "{limit}"\nmax_input_vars = ">= 5000"\n', name)


def test_a_new_pool_has_what_the_one_beside_it_sets(tmp_path: Path) -> None:
    """Its processes are those of the same user and group, and its socket is open to the same web server."""
    root = small_root(tmp_path, extra={"etc/php/8.2/fpm/pool.d/www.conf": POOL})
    made = plan([_wanting("nightlog", ">= 1G"), _wanting("platevault", "<= 512M")], look(root), today=TODAY)
    (pool,) = made.of(AddPool)
    assert made.complete and (pool.group, pool.socket_owner, pool.socket_group) == ("stars", "www-data", "adm")
    write(root, {file.path: file.content for file in made.files})
    old, new = (next(runtime for runtime in look(root).runtimes if runtime.pool == name) for name in ("www", pool.name))
    foreseen = next(judgement.target.runtime for judgement in made.after if judgement.target.runtime.pool == pool.name)
    assert {name: setting.value for name, setting in new.settings.items()} == {
        name: setting.value for name, setting in foreseen.settings.items()
    }
    assert (new.user, new.group, new.listen_owner, new.listen_group) == ("ida", "stars", "www-data", "adm")
    assert new.listen_mode == 0o666
    assert new.manager["request_terminate_timeout"].value == "77"
    kept = ("open_basedir", "max_input_vars", "display_errors", "mail.log")
    assert [new.settings[name] for name in kept] != [] and all(
        (new.settings[name].value, new.settings[name].admin) == (old.settings[name].value, old.settings[name].admin)
        for name in kept
    )
    assert "copy clear_env from 8.2/fpm/www, where nightlog rests on that" in as_script(made)


def test_a_secret_of_a_pool_is_not_copied(tmp_path: Path) -> None:
    survey = look(small_root(tmp_path))
    runtime = next(runtime for runtime in survey.runtimes if runtime.sapi == "fpm")
    settings = {
        "mysqli.default_pw": Setting(WITHHELD, set_by="pool"),
        "memory_limit": Setting("64M", set_by="pool", admin=True),
        "user_agent": Setting(None, set_by="pool"),
        "precision": Setting("5"),
    }
    runtime = replace(runtime, settings=settings)
    pool = own_pool(needs(""), runtime, survey)
    assert pool.copied == (("memory_limit", "64M", True),)
    there = {name: (setting.value, setting.admin) for name, setting in pool.beside(runtime).settings.items()}
    assert there == {
        "mysqli.default_pw": (None, False),
        "memory_limit": ("64M", True),
        "user_agent": (None, False),
        "precision": ("5", False),
    }
