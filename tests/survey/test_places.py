"""Directories and files as users of a server see them: the way there, links, whose a link is."""

import os
from pathlib import Path

import pytest

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.survey.probes import file_permissions
from tests.small_root import write

needs_root = pytest.mark.skipif(os.geteuid() != 0, reason="needs root to give files to others")


def test_every_directory_on_the_way_with_owner_and_mode(tmp_path: Path) -> None:
    write(tmp_path, {"srv/app/var/x": "", "etc/passwd": f"ida:x:{os.getuid()}:7:::\nbad\n"})
    (tmp_path / "srv/app").chmod(0o750)
    places = {
        place.path: place
        for place in file_permissions.probe(
            DirectoryHost(tmp_path, "x"), ["/srv/app/var", "/srv/app/var/x", "/srv/none/deep"]
        )
    }
    assert list(places) == ["/", "/srv", "/srv/app", "/srv/app/var", "/srv/app/var/x", "/srv/none", "/srv/none/deep"]
    assert (places["/srv/app"].mode, places["/srv/app"].owner, places["/srv/app"].kind) == (0o750, "ida", "directory")
    assert (places["/srv/app/var/x"].kind, places["/srv/none/deep"].kind, places["/srv/none"].kind) == (
        "file",
        "absent",
        "absent",
    )
    assert not any(place.real or place.loose for place in places.values())


@needs_root
def test_a_link_is_loose_where_others_may_put_another(tmp_path: Path) -> None:
    write(tmp_path, {"real/x": "", "shared/x": "", "safe/x": "", "theirs/x": ""})
    for folder in ("shared", "safe", "theirs"):
        (tmp_path / folder / "link").symlink_to("../real")
        (tmp_path / folder).chmod(0o755)
    (tmp_path / "shared").chmod(0o777)
    os.chown(tmp_path / "theirs", 1000, 1000)
    host = DirectoryHost(tmp_path, "x")
    paths = ["/shared/link", "/safe/link", "/theirs/link", "/safe/link/x", "/shared/link/x", "/real/x"]
    places = {place.path: place for place in file_permissions.probe(host, paths)}
    assert {path: places[path].loose for path in paths} == {"/shared/link": "/shared/link", "/safe/link": "", "/theirs/link": "/theirs/link", "/safe/link/x": "", "/shared/link/x": "/shared/link", "/real/x": ""}  # fmt: skip
    assert places["/safe/link/x"].real == "/real/x"
    assert "/real" in places, "the way there follows links"


def test_a_missing_place_behind_a_link_is_where_it_would_be(tmp_path: Path) -> None:
    write(tmp_path, {"real/x": ""})
    (tmp_path / "link").symlink_to("real")
    (only,) = [
        place
        for place in file_permissions.probe(DirectoryHost(tmp_path, "x"), ["/link/none"])
        if place.path == "/link/none"
    ]
    assert (only.kind, only.real) == ("absent", "/real/none")


PASSWD = "ida:x:1000:100:::\nbob:x:x:1:::\nweb:x:33:33:::\nweb:x:99:99:::\nroot:x:0:0:::\n"
GROUP = "users:x:100:\nplates:x:200:ida,bob\nshared:x:300:ida\nodd:x:y:ida\nweb:x:33:\nbad name:x:44:ida\n"


def test_a_link_to_nothing_is_told_from_what_is_not_there(tmp_path: Path) -> None:
    write(tmp_path, {"srv/app/x": ""})
    (tmp_path / "srv/app/cache").symlink_to("/var/cache/app")
    places = file_permissions.probe(DirectoryHost(tmp_path, "x"), ["/srv/app/cache", "/srv/app/none"])
    kinds = {place.path: place.kind for place in places}
    assert (kinds["/srv/app/cache"], kinds["/srv/app/none"]) == ("link", "absent")


def test_accounts_with_all_their_groups(tmp_path: Path) -> None:
    write(tmp_path, {"etc/passwd": PASSWD, "etc/group": GROUP})
    accounts = file_permissions.accounts(DirectoryHost(tmp_path, "x"), ["ida", "web", "bob", "nobody", "bad name"])
    assert [(account.name, account.user, account.groups, account.group) for account in accounts] == [
        ("ida", 1000, (100, 200, 300, 44), "users"),
        ("web", 33, (33,), "web"),
    ]
    assert file_permissions.accounts(DirectoryHost(tmp_path, "x"), ["a b"]) == ()


@pytest.mark.parametrize(
    ("line", "home"),
    [("ida:x:7:7::/home/ida:/bin/sh", "/home/ida"), ("ida:x:7:7:", ""), ("ida:x:7:7::/home/ida", "/home/ida")],
)
def test_where_an_account_is_at_home(tmp_path: Path, line: str, home: str) -> None:
    write(tmp_path, {"etc/passwd": line + "\n"})
    (account,) = file_permissions.accounts(DirectoryHost(tmp_path, "x"), ["ida"])
    assert account.home == home
