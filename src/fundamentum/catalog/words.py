"""What people and pages call things: the words of ``words.toml``."""

import tomllib
from collections.abc import Mapping
from functools import cache
from pathlib import Path

import msgspec


def said(about: str) -> Mapping[str, str]:
    """Word, in small letters, to what is meant by it: about ``keys`` of a needs file, ``extensions`` and others."""
    return _tables().get(about, {})


@cache
def _tables() -> Mapping[str, Mapping[str, str]]:
    text = Path(__file__).with_name("words.toml").read_text("utf-8")
    return msgspec.convert(tomllib.loads(text), dict[str, dict[str, str]])
