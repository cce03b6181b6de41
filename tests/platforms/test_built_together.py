"""Installed packages that have to come along: of the same source as one that does, or broken by it as they are."""

from pathlib import Path

import pytest

from fundamentum.platforms.debian import control
from tests.small_root import INDEX, LISTS, NAME, look, small_root, write

NEWER = "".join(
    f"\nPackage: {name}\nVersion: {version}\nArchitecture: amd64\nSource: {source}\n"
    for name, version, source in (
        ("libodd1", "1.3", "odd (3)"),
        ("odd-tools", "3", "odd"),
        ("odd-more", "3+b1", "odd (3)"),
        ("odd-late", "4", "odd"),
        ("odd-absent", "3", "odd"),
        ("even", "3", "even"),
    )
)


@pytest.mark.parametrize(
    ("entry", "built"),
    [
        ({"Package": "a", "Version": "1"}, ""),
        ({"Package": "a", "Version": "1", "Source": "s"}, "s 1"),
        ({"Package": "a", "Version": "1+b2", "Source": "s (2:1)"}, "s 2:1"),
    ],
)
def test_source(entry: dict[str, str], built: str) -> None:
    assert control.built_from(entry) == built
    stanza = "\n".join(f"{field}: {value}" for field, value in entry.items())
    assert control.source_of(stanza.encode()) == (built or "a 1")


def test_those_of_one_source_are_among_the_offers(tmp_path: Path) -> None:
    root = small_root(tmp_path)
    (root / LISTS / NAME).write_text(INDEX + NEWER)
    status = root / "var/lib/dpkg/status"
    there = ("libodd1", "odd-tools", "odd-more", "odd-late", "even")
    more = "".join(f"\nPackage: {name}\nStatus: install ok installed\nVersion: 1\n" for name in there)
    write(root, {"var/lib/dpkg/status": status.read_text() + more})
    offers = {offer.name: offer.built_from for offer in look(root).offers or () if offer.version != "1.2"}
    assert {name: offers.get(name) for name in there} == {
        "libodd1": "odd 3",
        "odd-tools": "odd 3",
        "odd-more": "odd 3",
        "odd-late": None,
        "even": None,
    }
    assert "odd-absent" not in offers


def test_those_that_a_new_one_breaks_are_among_the_offers(tmp_path: Path) -> None:
    root = small_root(tmp_path)
    there = ("old", "fine", "apart")
    breaking = "\nPackage: php8.9-odd\nVersion: 1\nBreaks: old (<< 2), fine (<< 1), absent (<< 2)\nConflicts: apart\n"
    newer = "".join(f"\nPackage: {name}\nVersion: 3\n" for name in (*there, "absent"))
    (root / LISTS / NAME).write_text(INDEX + breaking + newer)
    more = "".join(f"\nPackage: {name}\nStatus: install ok installed\nVersion: 1\n" for name in there)
    write(root, {"var/lib/dpkg/status": (root / "var/lib/dpkg/status").read_text() + more})
    offered = {offer.name for offer in look(root).offers or ()}
    assert offered & {*there, "absent"} == {"old"}
