"""Database servers' variables: which there are, their built-in values, and how their values are written.

Harvested from real servers by ``tools/harvest_databases.py``.
"""

import re
from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import Final

import msgspec

from fundamentum.lazy_regex import lazy_regex

_NUMBER: Final = lazy_regex(r"(-?\d+(?:\.\d+)?)\s*([A-Za-zµ]{0,3})")
_SIZES: Final = {"k": 2**10, "m": 2**20, "g": 2**30, "t": 2**40, "p": 2**50, "e": 2**60, "b": 1, "": 1}
_TIMES: Final = {"us": 0.001, "ms": 1, "s": 1000, "min": 60_000, "h": 3_600_000, "d": 86_400_000}
"""In milliseconds.  Source: PostgreSQL's documentation, "Parameter Names and Values"."""
_SWITCHES: Final = {"on": "1", "true": "1", "yes": "1", "off": "0", "false": "0", "no": "0"}


class PostgresqlVariable(msgspec.Struct, frozen=True, array_like=True):
    """One variable of PostgreSQL."""

    value: str
    unit: str
    """What a number without a unit counts: ``8kB``, ``ms``."""
    type: str
    restart: bool
    """Whether it counts from the next start on only."""


class _Document(msgspec.Struct, frozen=True):
    mariadb: dict[str, dict[str, str]]
    postgresql: dict[str, dict[str, PostgresqlVariable]]


@cache
def _document() -> _Document:
    path = Path(__file__).with_name("data") / "databases.json"
    return msgspec.json.decode(path.read_bytes(), type=_Document)


def _order(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in re.findall(r"\d+", version)[:2])


def _nearest(version: str, known: Mapping[str, object]) -> str:
    """The known version that this one is, or comes next after; the oldest, if it is older."""
    older = [
        release for release in sorted(known, key=_order) if _order(release) <= _order(version)[: len(_order(release))]
    ]
    return older[-1] if older else min(known, key=_order)


def is_known(product: str, name: str) -> bool:
    """Whether some version of a product has a variable of that name."""
    versions: Mapping[str, Mapping[str, object]] = getattr(_document(), product, {})
    return any(name in variables for variables in versions.values())


def names_of(product: str) -> set[str]:
    """All variables of a product that are known."""
    versions: Mapping[str, Mapping[str, object]] = getattr(_document(), product, {})
    return {name for variables in versions.values() for name in variables}


def built_in(product: str, version: str, name: str) -> str | None:
    """The built-in value of a variable; None: not known for that version, in which it may have changed."""
    if product == "postgresql":
        variables = _document().postgresql
        variable = variables[_nearest(version, variables)].get(name)
        return f"{variable.value}{variable.unit}" if variable and variable.unit[:1].isalpha() else _of_blocks(variable)
    if product != "mariadb":
        return None
    versions = _document().mariadb
    near = _nearest(version, versions)
    value = versions[near].get(name)
    if near == version:
        return value
    # Between two that are known, a value is known where both agree.
    later = [release for release in sorted(versions, key=_order) if _order(release) > _order(version)]
    return value if not later or versions[later[0]].get(name) == value else None


def _of_blocks(postgresql_variable: PostgresqlVariable | None) -> str | None:
    """A value that counts blocks (``8kB``) as a size."""
    if postgresql_variable is None:
        return None
    match = re.fullmatch(r"(\d+)kB", postgresql_variable.unit)
    if not match or not postgresql_variable.value.isdigit():
        return postgresql_variable.value
    size = int(postgresql_variable.value) * int(match[1])
    return f"{size // 1024}MB" if size % 1024 == 0 and size else f"{size}kB"


def takes_restart(product: str, version: str, name: str) -> bool:
    """Whether a change counts from the next start of the server on only."""
    if product != "postgresql":
        return True
    variables = _document().postgresql
    variable = variables[_nearest(version, variables)].get(name)
    return variable is None or variable.restart


def plain(product: str, version: str, name: str, value: str) -> str:
    """A value in the form in which two are compared: a number without unit, ``1`` and ``0`` for switches."""
    text = value.strip()
    if text.lower() in _SWITCHES:
        return _SWITCHES[text.lower()]
    match = _NUMBER.fullmatch(text)
    if not match:
        return text
    number, unit = float(match[1]), match[2]
    if product == "postgresql":
        own = _document().postgresql[_nearest(version, _document().postgresql)].get(name)
        default = own.unit if own else ""
        number, unit = (number, unit) if unit else _in_unit(number, default)
        if unit in _TIMES:
            return f"{number * _TIMES[unit]:.0f}"
    factor = _SIZES.get(unit.lower().removesuffix("b") if unit.lower() != "b" else "b", 1)
    return f"{number * factor:.0f}" if number * factor == int(number * factor) else f"{number * factor}"


def _in_unit(number: float, unit: str) -> tuple[float, str]:
    """``8kB``: a number of blocks of that size."""
    match = re.fullmatch(r"(\d*)([A-Za-z]*)", unit)
    return (number * int(match[1] or 1), match[2]) if match else (number, "")
