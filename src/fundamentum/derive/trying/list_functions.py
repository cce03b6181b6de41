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
    Instance,
    Loaded,
    OneOf,
    Unknown,
    lifted,
    truth,
)


@named("array_diff", "array_udiff", "->diff")
def _diff(machine: Machine, given: Given) -> Any:
    source = given.at(0)
    if not isinstance(source, Array):
        return _of_unknown(machine, given)
    others = [argument for argument in given.values[1:] if isinstance(argument, (Array, Loaded, Unknown, OneOf))]
    machine.world.listing += 1
    try:
        return kept(source, lambda key, value: _in_none(machine, key, value, others))
    finally:
        machine.world.listing -= 1


def _in_none(machine: Machine, key: Any, value: Any, others: list[Any]) -> bool | None:
    told = [_holds(machine, another, key, value) for another in others]
    return False if True in told else None if None in told else True


def _holds(machine: Machine, source: Any, key: Any, value: Any) -> bool | None:
    if isinstance(source, Loaded):
        return truth(machine.world.held(machine, source, key if source.flipped else value))
    if not isinstance(source, Array):
        return None
    return truth(among(source, lambda member: lifted(equal, value, member)))


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
    source, other = given.at(0), given.at(1)
    if not isinstance(source, Array):
        return UNKNOWN
    if isinstance(other, Array):
        return kept(source, lambda key, _: key not in other.items and (None if other.loose else True))
    return _diff(machine, given)


@named("array_diff_assoc")
def _diff_assoc(machine: Machine, given: Given) -> Any:
    source, other = given.at(0), given.at(1)
    if not (isinstance(source, Array) and isinstance(other, Array)):
        return _diff(machine, given)

    def keep(key: Any, value: Any) -> bool | None:
        there = truth(lifted(equal, value, other.items[key])) if key in other.items else None if other.loose else False
        return None if there is None else not there

    return kept(source, keep)


@named("array_intersect_key", "array_intersect_ukey")
def _intersect_key(machine: Machine, given: Given) -> Any:
    source, other = given.at(0), given.at(1)
    if not (isinstance(source, Array) and isinstance(other, Array)):
        return _intersect(machine, given)
    return kept(source, lambda key, _: True if key in other.items else None if other.loose else False)


@named("in_array", "array_search")
def _in_list(machine: Machine, given: Given) -> Any:
    value, source = given.at(0), given.at(1)
    if isinstance(source, Loaded):
        return machine.world.held(machine, source, value)
    if not isinstance(source, Array):
        return UNKNOWN
    alike = same if truth(given.at(2, "strict")) else equal
    return among(source, lambda member: lifted(alike, value, member))


@named("array_key_exists", "key_exists", "->has")
def _key_in(machine: Machine, given: Given) -> Any:
    key, source = given.at(0), given.at(1)
    if isinstance(key, Array):
        key, source = source, key
    if isinstance(source, Loaded):
        return machine.world.held(machine, source, key)
    if not isinstance(source, Array) or isinstance(key, (Unknown, OneOf)):
        return UNKNOWN
    return True if key in source.items else UNKNOWN if source.loose else False


def _count(php_array: Array) -> Any:
    if php_array.loose:
        return OneOf([len(php_array.items), len(php_array.items) + 1]) if php_array.items else UNKNOWN
    return len(php_array.items)


def _counted(machine: Machine, given: Given) -> Any:
    if isinstance(given.at(0), Instance):
        return machine.call_method(given.at(0), "count", Given.of())
    return of_array(_count)(machine, given)


def _keys(php_array: Array, *of: Any) -> Any:
    """The keys of a list; ``of``: those alone under which a value stands, and whether that has to be of one type."""
    alike = same if len(of) > 1 and truth(of[1]) else equal
    told = [truth(lifted(alike, of[0], value)) if of else True for value in php_array.values()]
    keys = [key for key, fits in zip(php_array.items, told, strict=True) if fits]
    return UNKNOWN if None in told else Array(dict(enumerate(keys)), loose=php_array.loose)


def _padded(php_array: Array, size: Any, value: Any) -> Array:
    missing = max(min(abs(int(number(size))), MAX_MEMBERS) - len(php_array.items), 0)
    values = php_array.values()
    return Array.of([*values, *[value] * missing] if number(size) > 0 else [*[value] * missing, *values])


def _chunks(php_array: Array, size: Any, keys: Any = False) -> Any:
    parts = [
        list(php_array.items.items())[at : at + int(number(size))]
        for at in range(0, len(php_array.items), int(number(size)))
    ]
    return Array.of(Array(dict(part)) if keys else Array.of(value for _, value in part) for part in parts)


def _merged(*arrays: Any) -> Array:
    out = Array()
    for argument in arrays:
        for key, value in argument.items.items() if isinstance(argument, Array) else ():
            out = out.with_item(None if isinstance(key, int) else key, value)
    perhaps = [value for table in arrays if isinstance(table, Array) for value in table.more]
    return Array(out.items, loose=any(not isinstance(table, Array) or table.loose for table in arrays), more=perhaps)


def _column(php_array: Array, key: Any, by: Any = None) -> Array:
    out = Array(loose=php_array.loose)
    for row in php_array.values():
        if isinstance(row, Instance) and key in row.members:
            out = out.with_item(None, row.members[key].value)
        elif isinstance(row, Array) and (key is None or key in row.items):
            out = out.with_item(row.items.get(by) if by is not None else None, row if key is None else row.items[key])
    return out


def _unique(php_array: Array) -> Array:
    out: dict[Any, Any] = {}
    for key, value in php_array.items.items():
        Patience.tick()  # each may be a list itself
        if not any(truth(lifted(equal, value, earlier)) for earlier in out.values()):
            out[key] = value
    return Array(out, loose=php_array.loose)


def _with(first: Any, second: Any, product: bool) -> Any:
    return first * second if product else first + second


def _sum(php_array: Array, product: bool = False) -> Any:
    total: Any = 1 if product else 0
    for value in php_array.values():
        total = lifted(lambda left, other: bounded(_with(left, number(other), product)), total, value)
    return UNKNOWN if php_array.loose else total


def _imploded(first: Any, second: Any = None) -> Any:
    sign, source = (first, second) if isinstance(second, Array) else ("", first)
    parts = [
        written(value) if not isinstance(value, (Unknown, OneOf, Instance)) else "" for value in array(source).values()
    ]
    return bounded(written(sign).join(parts))


def _filled(php_array: Array, value: Any) -> Array:
    return Array({key: value for key in php_array.values() if isinstance(key, (str, int))}, loose=php_array.loose)


def _repeated(start: int, count: int, value: Any) -> Array:
    """One value so many times."""
    if count > MAX_MEMBERS:
        raise ValueError
    return Array({start + at: value for at in range(count)})


@named("array_flip")
def _flipped(_: Machine, given: Given) -> Any:
    source = given.at(0)
    if isinstance(source, Loaded):
        return Loaded(source.kind, flipped=True, absent=source.absent)
    return lifted(_turned_round, source)


def _turned_round(source: Any) -> Array:
    items = {value: key for key, value in array(source).items.items() if isinstance(value, (str, int))}
    return Array(items, loose=source.loose)


def _replaced(first: Array, *arrays: Array) -> Array:
    return Array({key: value for table in (first, *arrays) for key, value in array(table).items.items()})


def _combined(keys: Array, values: Array) -> Array:
    return Array(dict(zip(keys.values(), array(values).values(), strict=True)))


def _first(php_array: Array, *_: Any) -> Any:
    return next(iter(php_array.values()), UNKNOWN if php_array.loose else None)


def _is_empty(php_array: Array) -> Any:
    there = truth(php_array)
    return UNKNOWN if there is None else not there


def _is_not_empty(php_array: Array) -> Any:
    there = truth(php_array)
    return UNKNOWN if there is None else there


BUILTINS.update(
    {
        **dict.fromkeys(("count", "sizeof", "->count"), _counted),
        **dict.fromkeys(
            ("array_values", "->values", "->all", "->toarray"),
            of_array(lambda table, *_: Array(dict(enumerate(table.values())), loose=table.loose)),
        ),
        "iterator_to_array": of_array(lambda table, *_: table),
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
        "array_product": of_array(lambda table: _sum(table, product=True)),
        "array_reverse": of_array(lambda table, *_: Array.of(reversed(table.values()))),
        "array_slice": of_array(lambda table, start, length=None, *_: Array.of(table.values()[start:][:length])),
        "array_key_first": of_array(lambda table: next(iter(table.items), UNKNOWN if table.loose else None)),
        "array_key_last": of_array(lambda table: next(reversed(table.items), UNKNOWN if table.loose else None)),
        "->first": of_array(_first),
        "->isempty": of_array(_is_empty),
        "->isnotempty": of_array(_is_not_empty),
        **dict.fromkeys(("implode", "join"), lambda _, given: lifted(_imploded, *given.values)),
        "->implode": lambda _, given: lifted(_imploded, given.at(1), given.at(0)),
        "collect": lambda _, given: given.at(0) if isinstance(given.at(0), Array) else UNKNOWN,
    }
)
