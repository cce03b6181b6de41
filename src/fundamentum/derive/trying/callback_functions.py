"""PHP's functions that call another one for each member of a list, and the methods of collections that do."""

from collections.abc import Callable
from typing import Any

from fundamentum.derive.php_source.nodes import Patience
from fundamentum.derive.trying.builtins import named
from fundamentum.derive.trying.comparing import equal
from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.memory import Cell
from fundamentum.derive.trying.values import UNKNOWN, Array, BoundMethod, Closure, Loaded, lifted, truth


def kept(array: Array, keep: Callable[[Any, Any], bool | None]) -> Array:
    """The members that are kept; where that is not known, there may be more."""
    told = {key: keep(key, value) for key, value in array.items.items()}
    items = {key: value for key, value in array.items.items() if told[key]}
    perhaps = [value for key, value in array.items.items() if told[key] is None]
    return Array(items, loose=array.loose, more=[*perhaps, *array.more])


def among(array: Array, alike: Callable[[Any], Any]) -> Any:
    """Whether one of a list's members is alike; unknown where that is not known, or there may be more of them."""
    Patience.tick()  # each may be a list itself
    told = [truth(alike(value)) for value in array.values()]
    return True if True in told else UNKNOWN if None in told or array.loose else False


@named("array_filter", "->filter")
def _filter(machine: Machine, given: Given) -> Any:
    source, function = given.at(0), given.at(1, "callback")
    mode = given.at(2, "mode")
    if not isinstance(source, Array):
        return UNKNOWN

    def keep(key: Any, value: Any) -> bool | None:
        if function is None:
            return truth(value)
        told = [key] if mode == "key" else [value, key] if mode == "both" or isinstance(function, Closure) else [value]
        return truth(machine.call_value(function, Given.of(*told)))

    return kept(source, keep)


@named("->reject")
def _reject(machine: Machine, given: Given) -> Any:
    source = given.at(0)
    if not isinstance(source, Array):
        return UNKNOWN

    def keep(key: Any, value: Any) -> bool | None:
        told = truth(machine.call_value(given.at(1), Given.of(value, key)))
        return None if told is None else not told

    return kept(source, keep)


@named("->map", "->mapwithkeys", "->flatmap")
def _mapped(machine: Machine, given: Given) -> Any:
    return _map(machine, Given.of(given.at(1), given.at(0)))


@named("array_map")
def _map(machine: Machine, given: Given) -> Any:
    function, source, others = given.at(0), given.at(1), given.values[2:]
    if isinstance(source, Loaded):
        return source
    if not isinstance(source, Array):
        machine.fork(lambda: machine.call_value(function, Given([], {}, {}, whole=False)), lambda: None)
        return UNKNOWN
    columns = [column_of.values() for column_of in others if isinstance(column_of, Array)]
    if function is None and not columns:
        return source
    items = {}
    for at, (key, value) in enumerate(source.items.items()):
        at_row = [column[at] if at < len(column) else None for column in columns]
        row = [value, *at_row]  # without a function the lists are put together
        items[key] = Array.of(row) if function is None else machine.call_value(function, Given.of(*row))
    return Array(items, loose=source.loose)


@named("array_walk", "->each")
def _walk(machine: Machine, given: Given) -> Any:
    source, function = given.at(0), given.at(1)
    if not isinstance(source, Array):
        machine.fork(lambda: machine.call_value(function, Given([], {}, {}, whole=False)), lambda: None)
        return UNKNOWN
    walked = {key: Cell(value) for key, value in source.items.items()}
    for key, cell in walked.items():
        machine.call_value(function, Given([cell.value, key, *given.values[2:]], {}, {0: cell}))
    changed = {key: cell.value for key, cell in walked.items()}
    if 0 in given.cells and changed != source.items:
        machine.memory.write(given.cells[0], Array(changed, loose=source.loose, more=source.more))
    return source


@named("array_reduce", "->reduce")
def _reduce(machine: Machine, given: Given) -> Any:
    source, value = given.at(0), given.at(2, "initial")
    if not isinstance(source, Array) or source.loose:
        return UNKNOWN
    for item in source.values():
        value = machine.call_value(given.at(1), Given.of(value, item))
    return value


@named("array_any", "->some", "->contains")
def _any(machine: Machine, given: Given) -> Any:
    return _quantified(machine, given, deciding=True)


@named("array_all", "->every")
def _all(machine: Machine, given: Given) -> Any:
    return _quantified(machine, given, deciding=False)


def _quantified(machine: Machine, given: Given, *, deciding: bool) -> Any:
    source, function = given.at(0), given.at(1)
    if not isinstance(source, Array):
        return UNKNOWN
    if not isinstance(function, (Closure, BoundMethod, str)):
        return among(source, lambda value: lifted(equal, function, value))
    told = [truth(machine.call_value(function, Given.of(value, key))) for key, value in source.items.items()]
    if deciding in told:
        return deciding
    return UNKNOWN if None in told or source.loose else not deciding
