"""A plan as a document that holds everything, and read back from one that was written, and perhaps signed, earlier."""

import functools
import operator
from collections.abc import Iterable, Iterator
from typing import Any, Final

import msgspec
from msgspec.structs import replace

from fundamentum import changes
from fundamentum.changes.base import Change
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.steps import Step
from fundamentum.entries import entry
from fundamentum.errors import InputError
from fundamentum.model.need_id import NeedId
from fundamentum.model.safe_text import safe_line
from fundamentum.plan.made_plan import Plan

NOT_KEPT: Final = ("before", "after")
"""Parts of a plan that say how it was made, and are in no file."""
MAX_TEXTS: Final = 1_000_000


def as_document(plan: Plan) -> dict[str, Any]:
    """The plan as plain values: dictionaries, lists and texts."""
    document: dict[str, Any] = msgspec.to_builtins(replace(plan, before=(), after=()), enc_hook=str)
    return {name: value for name, value in document.items() if name not in NOT_KEPT}


def from_document(document: dict[str, Any], where: str) -> Plan:
    """The plan in such a document; ``where`` names it in errors.  No text in it holds a control character."""
    for number, text in enumerate(_texts(document)):
        if number > MAX_TEXTS or any(safe_line(line) != line for line in text.split("\n")):
            raise InputError(where, "is no plan: it holds control characters, or more than any plan")
    try:
        return _plan(document)
    except (msgspec.ValidationError, KeyError, TypeError, ValueError, AttributeError) as error:
        raise InputError(where, f"is no plan that this program can read: {error}") from error


def _plan(document: dict[str, Any]) -> Plan:
    one_change, operation = _union(_kinds_of_changes()), _union(tuple(_below(Primitive)))
    steps = tuple(
        Step(_converted(step["operation"], operation), _converted(step["changes"], tuple[one_change, ...]))  # type: ignore[valid-type]
        for step in document["steps"]
    )
    done = _converted(document["changes"], tuple[one_change, ...])  # type: ignore[valid-type]
    rest = {name: value for name, value in document.items() if name not in ("steps", "changes", *NOT_KEPT)}
    return replace(_converted(rest, Plan), steps=steps, changes=done)  # type: ignore[no-any-return]


def _kinds_of_changes() -> tuple[type[Change], ...]:
    for name in changes.names():
        entry("fundamentum.changes", name)
    by_name = {kind.__name__: kind for kind in _below(Change)}  # of one that was loaded twice, the newer
    return tuple(by_name.values())


def _below(kind: type[Any]) -> Iterator[type[Any]]:
    """The classes that have no further ones below them."""
    for subclass in kind.__subclasses__():
        if _below_any(subclass):
            yield from _below(subclass)
        else:
            yield subclass


def _below_any(kind: type[Any]) -> bool:
    return bool(kind.__subclasses__())


def _union(kinds: tuple[type[Any], ...]) -> Any:
    return functools.reduce(operator.or_, kinds)


def _converted(value: Any, kind: Any) -> Any:
    return msgspec.convert(value, kind, strict=True, dec_hook=_made)


def _made(kind: type[Any], value: Any) -> Any:
    if kind is NeedId and isinstance(value, str):
        return NeedId(value)
    raise TypeError(f"{kind.__name__} is not in plans")


def _texts(value: Any) -> Iterable[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for key, member in value.items():
            yield from (key, *_texts(member))
    elif isinstance(value, list):
        for member in value:
            yield from _texts(member)
