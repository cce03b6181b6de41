"""PHP's functions of lists, and the methods of collections that are like them."""

from typing import Any

from fundamentum.derive.php_source.nodes import Patience
from fundamentum.derive.trying.builtins import BUILTINS, array, bounded, named, of_array
from fundamentum.derive.trying.callback_functions import among, kept
from fundamentum.derive.trying.comparing import equal, number, same, written
from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.values import (
    MAX_MEMBERS,
    UNKNOWN,
    Array,
    Loaded,
    OneOf,
    Thing,
    Unknown,
    lifted,
    truth,
)


@named("array_diff", "array_udiff", "->diff")
def _diff(machine: Machine, given: Given) -> Any:
    whole = given.at(0)
    if not isinstance(whole, Array):
        return _of_unknown(machine, given)
    others = [one for one in given.values[1:] if isinstance(one, (Array, Loaded, Unknown, OneOf))]
    machine.world.listing += 1
    try:
        return kept(whole, lambda key, value: _in_none(machine, key, value, others))
    finally:
        machine.world.listing -= 1


def _in_none(machine: Machine, key: Any, value: Any, others: list[Any]) -> bool | None:
    told = [_holds(machine, one, key, value) for one in others]
    return False if True in told else None if None in told else True


def _holds(machine: Machine, whole: Any, key: Any, value: Any) -> bool | None:
    if isinstance(whole, Loaded):
        return truth(machine.world.held(machine, whole, key if whole.flipped else value))
    if not isinstance(whole, Array):
        return None
    return truth(among(whole, lambda member: lifted(equal, value, member)))


@named("array_intersect", "array_uintersect", "->intersect")
def _intersect(machine: Machine, given: Given) -> Any:
    first, second = given.at(0), given.at(1)
    if isinstance(first, Loaded):
        first, second = second, first
    if not isinstance(first, Array):
        return _of_unknown(machine, given)
    return kept(first, lambda key, value: _holds(machine, second, key, value))


def _of_unknown(machine: Machine, given: Given) -> Unknown:
    """A list that is not known is held against what the server has: the function around is given it."""
    if any(isinstance(value, Loaded) for value in given.values):
        machine.world.opened(machine)
    return UNKNOWN


@named("array_diff_key", "array_diff_ukey")
def _diff_key(machine: Machine, given: Given) -> Any:
    whole, other = given.at(0), given.at(1)
    if not isinstance(whole, Array):
        return UNKNOWN
    if isinstance(other, Array):
        return kept(whole, lambda key, _: key not in other.items and (None if other.loose else True))
    return _diff(machine, given)


@named("array_diff_assoc")
def _diff_assoc(machine: Machine, given: Given) -> Any:
    whole, other = given.at(0), given.at(1)
    if not (isinstance(whole, Array) and isinstance(other, Array)):
        return _diff(machine, given)

    def keep(key: Any, value: Any) -> bool | None:
        there = truth(lifted(equal, value, other.items[key])) if key in other.items else None if other.loose else False
        return None if there is None else not there

    return kept(whole, keep)


@named("array_intersect_key", "array_intersect_ukey")
def _intersect_key(machine: Machine, given: Given) -> Any:
    whole, other = given.at(0), given.at(1)
    if not (isinstance(whole, Array) and isinstance(other, Array)):
        return _intersect(machine, given)
    return kept(whole, lambda key, _: True if key in other.items else None if other.loose else False)


@named("in_array", "array_search")
def _in_list(machine: Machine, given: Given) -> Any:
    value, whole = given.at(0), given.at(1)
    if isinstance(whole, Loaded):
        return machine.world.held(machine, whole, value)
    if not isinstance(whole, Array):
        return UNKNOWN
    alike = same if truth(given.at(2, "strict")) else equal
    return among(whole, lambda member: lifted(alike, value, member))


@named("array_key_exists", "key_exists", "->has")
def _key_in(machine: Machine, given: Given) -> Any:
    key, whole = given.at(0), given.at(1)
    if isinstance(key, Array):
        key, whole = whole, key
    if isinstance(whole, Loaded):
        return machine.world.held(machine, whole, key)
    if not isinstance(whole, Array) or isinstance(key, (Unknown, OneOf)):
        return UNKNOWN
    return True if key in whole.items else UNKNOWN if whole.loose else False


def _count(whole: Array) -> Any:
    if whole.loose:
        return OneOf([len(whole.items), len(whole.items) + 1]) if whole.items else UNKNOWN
    return len(whole.items)


def _counted(machine: Machine, given: Given) -> Any:
    if isinstance(given.at(0), Thing):
        return machine.call_method(given.at(0), "count", Given.of())
    return of_array(_count)(machine, given)


def _keys(whole: Array, *of: Any) -> Any:
    """The keys of a list; ``of``: those alone under which a value stands, and whether that has to be of one type."""
    alike = same if len(of) > 1 and truth(of[1]) else equal
    told = [truth(lifted(alike, of[0], value)) if of else True for value in whole.values()]
    keys = [key for key, fits in zip(whole.items, told, strict=True) if fits]
    return UNKNOWN if None in told else Array(dict(enumerate(keys)), loose=whole.loose)


def _padded(whole: Array, size: Any, value: Any) -> Array:
    more = max(min(abs(int(number(size))), MAX_MEMBERS) - len(whole.items), 0)
    values = whole.values()
    return Array.of([*values, *[value] * more] if number(size) > 0 else [*[value] * more, *values])


def _chunks(whole: Array, size: Any, keys: Any = False) -> Any:
    parts = [
        list(whole.items.items())[at : at + int(number(size))] for at in range(0, len(whole.items), int(number(size)))
    ]
    return Array.of(Array(dict(part)) if keys else Array.of(value for _, value in part) for part in parts)


def _merged(*arrays: Any) -> Array:
    out = Array()
    for one in arrays:
        for key, value in one.items.items() if isinstance(one, Array) else ():
            out = out.with_item(None if isinstance(key, int) else key, value)
    more = [value for one in arrays if isinstance(one, Array) for value in one.more]
    return Array(out.items, loose=any(not isinstance(one, Array) or one.loose for one in arrays), more=more)


def _column(whole: Array, key: Any, by: Any = None) -> Array:
    out = Array(loose=whole.loose)
    for row in whole.values():
        if isinstance(row, Thing) and key in row.members:
            out = out.with_item(None, row.members[key].value)
        elif isinstance(row, Array) and (key is None or key in row.items):
            out = out.with_item(row.items.get(by) if by is not None else None, row if key is None else row.items[key])
    return out


def _unique(whole: Array) -> Array:
    out: dict[Any, Any] = {}
    for key, value in whole.items.items():
        Patience.tick()  # each may be a list itself
        if not any(truth(lifted(equal, value, one)) for one in out.values()):
            out[key] = value
    return Array(out, loose=whole.loose)


def _with(first: Any, second: Any, product: bool) -> Any:
    return first * second if product else first + second


def _sum(whole: Array, product: bool = False) -> Any:
    total: Any = 1 if product else 0
    for value in whole.values():
        total = lifted(lambda one, other: bounded(_with(one, number(other), product)), total, value)
    return UNKNOWN if whole.loose else total


def _imploded(first: Any, second: Any = None) -> Any:
    sign, whole = (first, second) if isinstance(second, Array) else ("", first)
    parts = [
        written(value) if not isinstance(value, (Unknown, OneOf, Thing)) else "" for value in array(whole).values()
    ]
    return bounded(written(sign).join(parts))


def _filled(whole: Array, value: Any) -> Array:
    return Array({one: value for one in whole.values() if isinstance(one, (str, int))}, loose=whole.loose)


def _repeated(start: int, count: int, value: Any) -> Array:
    """One value so many times."""
    if count > MAX_MEMBERS:
        raise ValueError
    return Array({start + at: value for at in range(count)})


@named("array_flip")
def _flipped(_: Machine, given: Given) -> Any:
    whole = given.at(0)
    if isinstance(whole, Loaded):
        return Loaded(whole.kind, flipped=True, absent=whole.absent)
    return lifted(_turned_round, whole)


def _turned_round(whole: Any) -> Array:
    items = {value: key for key, value in array(whole).items.items() if isinstance(value, (str, int))}
    return Array(items, loose=whole.loose)


def _replaced(first: Array, *more: Array) -> Array:
    return Array({key: value for one in (first, *more) for key, value in array(one).items.items()})


def _combined(keys: Array, values: Array) -> Array:
    return Array(dict(zip(keys.values(), array(values).values(), strict=True)))


def _first(whole: Array, *_: Any) -> Any:
    return next(iter(whole.values()), UNKNOWN if whole.loose else None)


def _is_empty(whole: Array) -> Any:
    there = truth(whole)
    return UNKNOWN if there is None else not there


def _is_not_empty(whole: Array) -> Any:
    there = truth(whole)
    return UNKNOWN if there is None else there


BUILTINS.update(
    {
        **dict.fromkeys(("count", "sizeof", "->count"), _counted),
        **dict.fromkeys(
            ("array_values", "->values", "->all", "->toarray"),
            of_array(lambda whole, *_: Array(dict(enumerate(whole.values())), loose=whole.loose)),
        ),
        "iterator_to_array": of_array(lambda whole, *_: whole),
        "array_chunk": of_array(_chunks),
        "array_pad": of_array(_padded),
        **dict.fromkeys(("array_keys", "->keys"), of_array(_keys)),
        **dict.fromkeys(("array_merge", "->merge", "->concat"), lambda _, given: _merged(*given.values)),
        "array_replace": of_array(_replaced),
        "array_combine": of_array(_combined),
        "array_fill_keys": of_array(_filled),
        "array_fill": lambda _, given: lifted(_repeated, *given.values),
        **dict.fromkeys(("array_column", "->pluck"), of_array(_column)),
        **dict.fromkeys(("array_unique", "->unique"), of_array(_unique)),
        **dict.fromkeys(("array_sum", "->sum"), of_array(_sum)),
        "array_product": of_array(lambda whole: _sum(whole, product=True)),
        "array_reverse": of_array(lambda whole, *_: Array.of(reversed(whole.values()))),
        "array_slice": of_array(lambda whole, start, length=None, *_: Array.of(whole.values()[start:][:length])),
        "array_key_first": of_array(lambda whole: next(iter(whole.items), UNKNOWN if whole.loose else None)),
        "array_key_last": of_array(lambda whole: next(reversed(whole.items), UNKNOWN if whole.loose else None)),
        "->first": of_array(_first),
        "->isempty": of_array(_is_empty),
        "->isnotempty": of_array(_is_not_empty),
        **dict.fromkeys(("implode", "join"), lambda _, given: lifted(_imploded, *given.values)),
        "->implode": lambda _, given: lifted(_imploded, given.at(1), given.at(0)),
        "collect": lambda _, given: given.at(0) if isinstance(given.at(0), Array) else UNKNOWN,
    }
)
