"""A pool of an application's own: what it is called, and where its file and its socket stand."""

from pathlib import Path

import pytest
from msgspec.structs import replace

from fundamentum.changes.pool import AddPool
from fundamentum.plan.separate_pools import own_pool
from tests.around import needs
from tests.small_root import look, small_root

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
    found = look(small_root(tmp_path))
    runtime = next(one for one in found.runtimes if one.sapi == "fpm")
    others = [replace(runtime, **(OF | other)) for other in there]
    pools = {one: AddPool(one, "", "", "", "", "") for one in planned}
    pool = own_pool(needs(""), runtime, replace(found, runtimes=(runtime, *others)), pools)
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
    found = look(small_root(tmp_path))
    runtime = replace(next(one for one in found.runtimes if one.sapi == "fpm"), listen=listen)
    assert own_pool(needs(""), runtime, found).listen == f"{folder}/php8.2-fpm-nightlog.sock"
