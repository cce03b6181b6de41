"""Short texts for ``fundamentum help TOPIC``: one file for each topic, found by its name."""

from pathlib import Path

_HERE = Path(__file__).parent


def names() -> tuple[str, ...]:
    """The topics that there are."""
    return tuple(sorted(path.stem for path in _HERE.glob("*.txt")))


def text_of(topic: str) -> str:
    """The text of one of them."""
    return (_HERE / f"{topic}.txt").read_text("utf-8")
