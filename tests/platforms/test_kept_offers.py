"""Package indexes are read once, and again whenever anything about them changes."""

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import pytest

from fundamentum.model.packages import Offer
from fundamentum.model.survey import Survey
from fundamentum.platforms.debian import apt
from tests.small_root import INDEX, LISTS, NAME, look, small_root


@pytest.fixture
def root(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    return small_root(tmp_path / "server")


def read_again(monkeypatch: pytest.MonkeyPatch, root: Path) -> tuple[Survey, bool]:
    """A survey, and whether the indexes were read for it."""
    read: list[object] = []
    whole = apt._relevant

    def noted(*about: Any) -> Iterable[Offer]:
        read.append(about)
        return whole(*about)

    with monkeypatch.context() as patch:
        patch.setattr(apt, "_relevant", noted)
        return look(root), bool(read)


def test_an_unchanged_index_is_not_read_again(root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    first, read = read_again(monkeypatch, root)
    again, twice = read_again(monkeypatch, root)
    assert (read, twice) == (True, False)
    assert (again.offers, again.repositories, again.remarks) == (first.offers, first.repositories, first.remarks)


@pytest.mark.parametrize("what", ["index", "preferences", "another index", "damage", "loose rights", "a link"])
def test_what_has_changed_or_may_be_somebody_else_s_is_read(
    root: Path, monkeypatch: pytest.MonkeyPatch, what: str
) -> None:
    first, _ = read_again(monkeypatch, root)
    (kept,) = (root.parent / "cache/fundamentum").glob("*.offers")
    match what:
        case "index":
            (root / LISTS / NAME).write_text(INDEX.replace("8.2.9-1", "8.2.8-1"))
        case "preferences":
            folder = root / "etc/apt/preferences.d"
            folder.mkdir(parents=True)
            (folder / "x").write_text("Package: php8.2-gd\nPin: version *\nPin-Priority: -1\n")
        case "another index":
            (root / LISTS / NAME.replace("main", "extra")).write_text("Package: php8.2-x\nVersion: 1\n\n")
        case "damage":
            kept.write_bytes(kept.read_bytes()[:-1])
        case "loose rights":
            kept.chmod(0o666)
        case "a link":
            kept.rename(kept.with_suffix(".moved"))
            kept.symlink_to(kept.with_suffix(".moved"))
    again, read = read_again(monkeypatch, root)
    assert read
    assert (again.offers == first.offers) == (what in ("damage", "loose rights", "a link"))
