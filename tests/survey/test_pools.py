"""FPM's pools, put together from the main file and what it includes."""

from pathlib import Path

import pytest

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.survey.probes import fpm_pools
from fundamentum.survey.probes.fpm_refusals import refusal
from tests.small_root import write
from tests.survey.pool_files import CASES as FILES
from tests.survey.pool_files import OF_BRANCHES, OF_SYSTEM
from tests.survey.pool_files import POOL as STATIC

MAIN = "[global]\nerror_log = x\ninclude=/etc/fpm/pool.d/*.conf\n"
POOL = "[www]\nuser = www-data\nlisten = /run/$pool.sock\n"
CASES = [  # files of the directory; for each pool: name, user, listen, what it overrides (A: admin), limits of the manager
    ({"a.conf": POOL}, [("www", "www-data", "/run/www.sock", [], {})]),
    ({"a.conf": POOL + "php_value[a.b] = 1\nphp_admin_value[c] = two\n"}, [("www", "www-data", "/run/www.sock", ["a.b=1", "Ac=two"], {})]),
    ({"a.conf": POOL + "php_flag[a] = on\nphp_flag[b] = yes\nphp_admin_flag[c] = off\nphp_flag[d] = 1\n"}, [("www", "www-data", "/run/www.sock", ["a=1", "b=1", "Ac=0", "d=1"], {})]),
    ({"a.conf": POOL + "php_other[a] = 1\nphp_value = 2\nenv[X] = 3\nphp_value[a b] = 4\n"}, [("www", "www-data", "/run/www.sock", [], {})]),
    ({"a.conf": "[www]\nprefix = /srv/$pool\nlisten = run/a.sock\n"}, [("www", None, "/srv/www/run/a.sock", [], {})]),
    ({"a.conf": POOL, "b.conf": "[www]\nuser = ida\nphp_value[dir] = /srv/$pool\n[x]\nlisten = 9001\n"}, [("www", "ida", "/run/www.sock", ["dir=/srv/www"], {}), ("x", None, "9001", [], {})]),
    ({"a.conf": POOL + "request_terminate_timeout = 30\nrequest_terminate_timeout = 2m\n"}, [("www", "www-data", "/run/www.sock", [], {"request_terminate_timeout": "2m"})]),
    ({"a.conf": POOL, "b.pool": "[lost]\nuser = x\n"}, [("www", "www-data", "/run/www.sock", [], {})]),
    ({"a.conf": POOL + "[global]\nuser = root\n"}, [("www", "www-data", "/run/www.sock", [], {})]),
    ({"a.conf": "[bad name]\nuser = www-data\n", "b.conf": "[x]\nuser = a b\n", "c.conf": POOL}, [("www", "www-data", "/run/www.sock", [], {})]),
]  # fmt: skip


def pools(
    root: Path, files: dict[str, str | bytes], main: str = MAIN
) -> tuple[list[fpm_pools.Pool], list[str], list[str]]:
    write(root, {"etc/fpm/main.conf": main, **{f"etc/fpm/pool.d/{name}": text for name, text in files.items()}})
    found = fpm_pools.probe(DirectoryHost(root, "x"), "/etc/fpm/main.conf", {})
    return found.pools, found.files, [remark.why for remark in found.remarks]


@pytest.mark.parametrize(("files", "expected"), CASES)
def test_pools(
    tmp_path: Path,
    files: dict[str, str | bytes],
    expected: list[tuple[str, str | None, str | None, list[str], dict[str, str]]],
) -> None:
    found, read, remarks = pools(tmp_path, files)
    shown = [
        (pool.name, pool.user, pool.listen, [f"{'A' if o.admin else ''}{o.name}={o.value}" for o in pool.overrides], {name: s.value for name, s in pool.manager.items()})
        for pool in found
    ]  # fmt: skip
    assert shown == expected
    assert read == [
        "/etc/fpm/main.conf",
        *(f"/etc/fpm/pool.d/{name}" for name in sorted(files) if name.endswith(".conf")),
    ]
    assert len(remarks) == 2 * ("b.conf" in files and "c.conf" in files)


def test_where_a_pool_stands_and_what_a_limit_overrode(tmp_path: Path) -> None:
    (pool,), _, _ = pools(
        tmp_path,
        {"a.conf": POOL + "request_terminate_timeout = 30\nrequest_terminate_timeout = 2m\nphp_value[a] = 1\n"},
    )
    assert (pool.file, pool.folder) == ("/etc/fpm/pool.d/a.conf", "/etc/fpm/pool.d")
    limit = pool.manager["request_terminate_timeout"]
    assert (str(limit.origin), [str(lost) for lost in limit.overridden]) == (
        "/etc/fpm/pool.d/a.conf:5",
        ["/etc/fpm/pool.d/a.conf:4 (30)"],
    )
    assert str(pool.overrides[0].origin) == "/etc/fpm/pool.d/a.conf:6"


def test_a_pool_in_the_main_file_has_no_directory_of_additions(tmp_path: Path) -> None:
    (pool,), read, _ = pools(tmp_path, {}, POOL)
    assert (pool.folder, read) == (None, ["/etc/fpm/main.conf"])


def test_what_cannot_be_read_is_said(tmp_path: Path) -> None:
    _, _, remarks = pools(tmp_path / "a", {"a.conf": POOL + 'user = "x\ny\n'})
    assert "the manager does not start with this file" in remarks[0]
    _, _, remarks = pools(tmp_path / "b", {"a.conf": b"[www]\n" + b";" * 2_000_000})
    assert len(remarks) == 1
    assert "too many included files" in pools(tmp_path / "c", {"a.conf": "include=/etc/fpm/pool.d/a.conf\n"})[2][0]


def refused(root: Path, text: str, branch: str = "8.2") -> str:
    write(
        root,
        {
            "etc/passwd": "root:x:0:0\nwww-data:x:33:33\n",
            "etc/group": "root:x:0\nwww-data:x:33\n",
            "srv/a": "",
            "tmp/b": "",
        },
    )
    write(root, {"etc/fpm/main.conf": text})
    host = DirectoryHost(root, "x", live=True)
    found = fpm_pools.probe(host, "/etc/fpm/main.conf", {})
    said = refusal(host, found.lines, found.broken, branch)
    return said.why if said else ""


@pytest.mark.parametrize("case", [*FILES, *OF_SYSTEM])
def test_what_the_manager_refuses(tmp_path: Path, case: str) -> None:
    text, words = {**FILES, **OF_SYSTEM}[case]
    said = refused(tmp_path, text)
    assert (words in said) and bool(said) == bool(words)


@pytest.mark.parametrize("case", OF_BRANCHES)
def test_what_a_branch_knows(tmp_path: Path, case: str) -> None:
    line, since = OF_BRANCHES[case]
    said = {branch: refused(tmp_path, f"{STATIC}{line}\n", branch) for branch in ("7.4", "8.0", "8.2", "8.4")}
    assert [branch for branch, why in said.items() if not why] == [branch for branch in said if branch >= since]


def test_what_is_left_out_is_not_told(tmp_path: Path) -> None:
    """A pool that says nothing of its processes may be one of which more is left out; so may users be."""
    assert refused(tmp_path, "[www]\nuser = www-data\nlisten = /run/x.sock\n") == ""
    assert refused(tmp_path, f"{STATIC}chdir = /nowhere/at/all\n") == ""
    write(tmp_path, {"etc/nsswitch.conf": "passwd: files sss\n"})
    assert refused(tmp_path, STATIC.replace("www-data", "ida")) == ""
