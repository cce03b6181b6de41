"""Packages of a large index: where each stands, in how many versions, and who provides a name."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.model.packages import Repository
from fundamentum.platforms.debian import apt, control

INDEX = b"""\
Package: php-common
Version: 2:93

Package: phpless
Provides: php-free (= 1), editor
Version: 1

Package: mailer
Priority: extra
Provides: mail-transport-agent, mail-server,sender(= 2)
Version: 1

Package: mailer
Version: 2
Provides: editor
"""
PROVIDERS = [
    # a name; who provides it
    ("php-free", {b"phpless"}),
    ("editor", {b"phpless", b"mailer"}),
    ("mail-transport-agent", {b"mailer"}),
    ("mail-server", {b"mailer"}),
    ("sender", {b"mailer"}),
    ("mail", set()),
    ("server", set()),
    ("mailer", set()),
]


@pytest.mark.parametrize(("name", "providers"), PROVIDERS)
def test_who_provides_a_name(name: str, providers: set[bytes]) -> None:
    assert control.Index(INDEX, b"php").providing([name.encode()]) == providers


def test_names_and_versions() -> None:
    index = control.Index(INDEX, b"php")
    assert index.marked == [b"php-common", b"phpless"]
    assert [control.fields(stanza)["Version"] for stanza in index.stanzas(b"mailer")] == ["1", "2"]
    assert b"mailer" in index and b"Version" not in index and index.stanzas(b"nowhere") == [] and not index.cut


def test_a_dependency_that_no_package_has_by_name_brings_those_that_provide_it() -> None:
    data = INDEX + b"\nPackage: php8.2-fpm\nVersion: 1\nDepends: editor, nowhere | sender\nRecommends: server\n"
    data += b"\nPackage: server\nVersion: 1\n\nPackage: apart\nVersion: 1\n"
    offers = apt.offers_in(data, Repository("main"), "")
    assert [offer.name for offer in offers] == ["mailer", "mailer", "php-common", "php8.2-fpm", "phpless", "server"]


def test_what_only_a_package_of_php_recommends_is_on_offer() -> None:
    data = b"Package: php8.2-fpm\nVersion: 1\nRecommends: server\nDepends: library\n"
    data += b"\nPackage: server\nVersion: 1\nDepends: module\nRecommends: manual\n"
    data += b"\nPackage: library\nVersion: 1\nRecommends: manual\n"
    data += b"\nPackage: module\nVersion: 1\n\nPackage: manual\nVersion: 1\n"
    offers = apt.offers_in(data, Repository("main"), "")
    assert [offer.name for offer in offers] == ["library", "module", "php8.2-fpm", "server"]


FIELDS = [
    (b"Package: a\nVersion:1:2 \nnothing\n", {"Package": "a", "Version": "1:2"}),
    (b"Package: a\nDepends: b,\n  c (>= 1)\nDescription: x\n y\n", {"Package": "a", "Depends": "b, c (>= 1)"}),
    (b"", {}),
]


@pytest.mark.parametrize(("stanza", "found"), FIELDS)
def test_fields_of_a_stanza(stanza: bytes, found: dict[str, str]) -> None:
    assert control.fields(stanza) == found


NAMES = st.from_regex(r"[a-z][a-z0-9+.-]{0,6}", fullmatch=True)


@given(st.lists(st.tuples(NAMES, st.lists(NAMES, max_size=3)), max_size=12))
def test_every_package_is_found_where_it_stands(packages: list[tuple[str, list[str]]]) -> None:
    provides = [f"Provides: {', '.join(names)}\n" if names else "" for _, names in packages]
    text = "\n".join(
        f"Package: {name}\nVersion: {number}\n{provides[number]}" for number, (name, _) in enumerate(packages)
    )
    index = control.Index(text.encode(), b"a")
    assert set(index.marked) == {name.encode() for name, _ in packages if "a" in name}
    for name, _ in packages:
        versions = [control.fields(stanza)["Version"] for stanza in index.stanzas(name.encode())]
        assert versions == [str(number) for number, (other, _) in enumerate(packages) if other == name]
    for wanted in {one for _, names in packages for one in names}:
        assert index.providing([wanted.encode()]) == {name.encode() for name, names in packages if wanted in names}
