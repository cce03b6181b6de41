"""What is derived of the small trees is the same if their code is written in another way."""

from collections.abc import Iterator
from pathlib import Path

import pytest

from fundamentum.derive.derive import derive
from tests.derive.test_traits import TREES
from tests.derive.written_otherwise import WAYS, written_otherwise
from tests.examples import WHOLE
from tests.small_root import write

Files = dict[str, str | bytes]


def _otherwise() -> Iterator[tuple[str, Files, Files]]:
    """Trees, each written in a way that changes something in it: one tree in this, the next in that."""
    for number, tree in enumerate(TREES if WHOLE else TREES[::8]):
        first = number % len(WAYS)
        for way in [*WAYS][first:] + [*WAYS][:first]:
            if new := written_otherwise(tree["files"], way):
                yield f"{tree['trait']}, {way}", tree["files"], new
                break


EVERY = [*_otherwise()]


def derived(folder: Path, files: Files) -> list[str]:
    write(folder, files)
    return sorted(
        f"{entry.way or entry.level} {entry.kind} {'|'.join(entry.names)} {entry.value}"
        for entry in derive(folder).entries
    )


@pytest.mark.parametrize(("old", "new"), [(old, new) for _, old, new in EVERY], ids=[name for name, _, _ in EVERY])
def test_written_otherwise_it_comes_to_the_same(old: Files, new: Files, tmp_path: Path) -> None:
    assert derived(tmp_path / "new", new) == derived(tmp_path / "old", old)
