"""Which releases of distributions carry which branches of PHP: the words of ``releases.toml``."""

import tomllib
from collections.abc import Callable
from datetime import date
from functools import cache
from pathlib import Path

import msgspec


class Release(msgspec.Struct, frozen=True):
    """One release of a distribution."""

    id: str
    """As ``os-release`` has it."""
    name: str
    version: str
    branches: tuple[str, ...]
    until: date
    """The day until which its own packages are mended."""


@cache
def releases() -> tuple[Release, ...]:
    """All that are known, of each distribution the oldest first."""
    text = Path(__file__).with_name("releases.toml").read_text("utf-8")
    return msgspec.convert(tomllib.loads(text)["release"], tuple[Release, ...])


def carrying(accepted: Callable[[str], bool], distribution: str, today: date) -> list[tuple[Release, tuple[str, ...]]]:
    """The releases that are still mended and carry an accepted branch, with these; those of the distribution first."""
    fitting = [
        (release, tuple(branch for branch in release.branches if accepted(branch)))
        for release in releases()
        if release.until > today
    ]
    return sorted(((release, some) for release, some in fitting if some), key=lambda pair: pair[0].id != distribution)
