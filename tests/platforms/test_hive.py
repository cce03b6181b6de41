"""Registry hives, written here cell by cell; tests/real reads those that another program wrote."""

import struct

import pytest

from fundamentum.platforms.windows import hive
from fundamentum.platforms.windows.hive import BadHive
from tests.hives import Hive

TREE: dict[str, object] = {
    "PHP": {
        "IniFilePath": "C:\\conf",
        "Number": (4, b"\5\0\0\0"),
        "Short": "x",
        "Expanded": (2, "%dir%\0later\0".encode("utf-16-le")),
        "8.3": {"IniFilePath": "C:\\small"},
        "Odd": (1, b""),
    },
    "Other": {"PHP": {"IniFilePath": "D:\\"}},
}
FOUND = [
    ("php", "IniFilePath", "C:\\conf"),
    ("php", "Short", "x"),
    ("php", "Expanded", "%dir%"),
    ("php", "Odd", ""),
    ("php\\8.3", "IniFilePath", "C:\\small"),
]


def texts(data: bytes, *path: str) -> list[tuple[str, str, str]]:
    return list(hive.Hive(data).texts(path))


@pytest.mark.parametrize("lists", [b"lf", b"lh", b"li", b"ri"])
@pytest.mark.parametrize("wide", [False, True])
def test_the_texts_of_a_key_and_of_those_below_it(lists: bytes, wide: bool) -> None:
    data = Hive(TREE, lists=lists, wide=wide).data
    assert texts(data, "php") == FOUND
    assert texts(data, "OTHER", "Php") == [("other\\php", "IniFilePath", "D:\\")]
    assert texts(data, "none") == texts(data, "PHP", "none", "deeper") == []
    assert len(texts(data)) == len(FOUND) + 1


def test_a_text_is_cut_off(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(hive, "MAX_TEXT", 8)
    assert texts(Hive({"a": "123456"}).data) == [("", "a", "1234")]


@pytest.mark.parametrize("data", [b"", b"regf", b"x" * 0x2000, b"regf" + bytes(0x2000)])
def test_what_is_no_hive(data: bytes) -> None:
    with pytest.raises(BadHive):
        texts(data)


@pytest.mark.parametrize("sign", [b"nk", b"vk", b"lf"])
def test_a_cell_that_is_not_what_it_should_be(sign: bytes) -> None:
    data = Hive(TREE).data
    with pytest.raises(BadHive, match="damaged"):
        texts(data.replace(sign, b"??"))


def test_every_beginning_of_a_hive_is_refused_or_read(monkeypatch: pytest.MonkeyPatch) -> None:
    data = Hive(TREE).data
    for size in range(0x1000, len(data), 16):
        try:
            assert set(texts(data[:size], "php")) <= set(FOUND)
        except BadHive:
            continue


def test_what_has_no_end(monkeypatch: pytest.MonkeyPatch) -> None:
    wide = Hive({f"k{number}": {} for number in range(30)}).data
    monkeypatch.setattr(hive, "MAX_BELOW", 20)
    with pytest.raises(BadHive, match="no end"):
        texts(wide)
    monkeypatch.setattr(hive, "MAX_BELOW", 31)
    assert texts(wide) == []
    monkeypatch.setattr(hive, "MAX_ENTRIES", 29)
    with pytest.raises(BadHive, match="no end"):
        texts(wide)


def test_a_list_that_leads_to_itself() -> None:
    made = Hive({"a": {}}, lists=b"ri")
    at = made.data.rindex(b"ri")
    own = at - 4 - 0x1000
    looped = made.data[: at + 4] + struct.pack("<I", own) + made.data[at + 8 :]
    with pytest.raises(BadHive, match="a list of keys is none"):
        texts(looped)
