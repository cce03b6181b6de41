"""The ways into a program, gone one after the other, and what its checks come to."""

import posixpath
import re
import time
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any, Final, NamedTuple

import msgspec

from fundamentum.derive.application.tree import Each, SourceFile, has_directory
from fundamentum.derive.php_source.facts import Check, FileFacts, Gate, Wish
from fundamentum.derive.php_source.nodes import Patience, names_around
from fundamentum.derive.reading.workers import contents
from fundamentum.derive.statements.requirement_names import looks_at_requirements
from fundamentum.derive.trying.asking_places import Looked, looked_at, mentions
from fundamentum.derive.trying.defined import Defined
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.program import RESERVED, Ledger, Program
from fundamentum.derive.trying.running import Running
from fundamentum.derive.trying.runs import Way
from fundamentum.derive.trying.trial_results import TrialResults, agreed
from fundamentum.derive.trying.trials import Trial
from fundamentum.derive.trying.values import Array, Closure
from fundamentum.untrusted.files import read_below

_OF_LIBRARIES: Final = "vendor/composer/platform_check.php"
_INCLUDED: Final = " included"
"""Behind the name of a file that is to be gone through where another includes it, but not looked for."""
PARTS: Final = 2
"""Parts in which the ways are gone, each by a process if there are several: so many on every machine."""
MAX_BESIDE: Final = 100_000
"""Bytes of a file that is no source."""
MAX_KINDS: Final = 20
"""Classes of which one function is gone through as if it was theirs."""
MAX_NAMES: Final = 120
MAX_WAYS: Final = 400
MAX_ROUNDS: Final = 5
MAX_FILES: Final = 12
"""Files that name a function, or a class: what more name is no matter of what is required."""
MAX_NESTED: Final = 3
"""Lists in lists that are looked through for functions."""
MAX_ASKING: Final = 40
"""The same of a function that asks for what it is given."""
FOR_DIRECTORIES: Final = 20_000
"""Steps that are left in any case for those that ask whether they may write somewhere."""
_EVERYDAY: Final = frozenset(
    "get set load create make run add call find fetch render __call __get __callstatic __construct __invoke handle "
    "execute init boot register process index main start".split()
)
Ways = Mapping[str, Sequence[int]]
"""File → bytes in the functions that are to be gone through; and the file's own code."""


class _Task(NamedTuple):
    token: str
    """Of one application."""
    ledger: Ledger
    files: Sequence[SourceFile]
    defined: Mapping[str, Defined]
    root: str
    asking: Sequence[str]
    """Files that ask something."""
    relevant: Sequence[str]
    """Functions of which the answers matter."""
    ways: Sequence[tuple[str, Sequence[int]]]
    ends: float
    """When the time for the whole application is over."""


class _Answer(msgspec.Struct, array_like=True):
    facts: list[tuple[str, FileFacts]]
    ledger: Ledger
    open: list[tuple[str, int]]
    """What others may name whose own answers hang on it: functions, classes, constants, files; in how many, at most."""


def tried(
    root: str, each: Each, map_: Callable[..., Iterable[Any]], files: Sequence[SourceFile], ends: float
) -> dict[str, list[Check | Gate | Wish]]:
    """File → what the program's own checks in it come to, as far as they are tried before the time ``ends``."""
    own = [file for file in files if file.part == "own" or file.path.endswith(_OF_LIBRARIES)]
    looked: dict[str, Looked] = {file.path: told for file, told in each(looked_at, own, None)}
    new: dict[str, list[int]] = {path: list(told.asks) for path, told in looked.items() if told.asks}
    # Last, so that they take nothing from those that ask for extensions.
    later = {path: list(told.later) for path, told in looked.items() if told.later}
    defined = {path: told.defined for path, told in looked.items()}
    asking, relevant, token = list(new), dict[str, None](), f"{root} {time.monotonic_ns()}"
    gone: dict[str, set[int]] = defaultdict(set)
    out: dict[str, list[Check | Gate | Wish]] = defaultdict(list)
    ledgers = [Ledger() for _ in range(PARTS)]
    for _ in range(MAX_ROUNDS + 2):
        names: dict[str, int] = {}
        tasks = [
            _Task(token, ledger, own, defined, root, asking, list(relevant), batch, ends)
            for ledger, batch in zip(ledgers, _batches(new), strict=False)
        ]
        for number, packed in enumerate(map_(_try, tasks, ends)):
            answer = msgspec.msgpack.decode(packed, type=_Answer)
            ledgers[number] = answer.ledger
            for path, fact in answer.facts:
                out[path] += [*fact.checks, *fact.gates, *fact.wishes]
            names |= dict(answer.open)
        for path, places in new.items():
            gone[path].update(places)
        names = {name: most for name, most in names.items() if name.removesuffix(_INCLUDED) not in relevant}
        relevant |= {name.removesuffix(_INCLUDED): None for name in names}
        names = {name: most for name, most in names.items() if not name.endswith(_INCLUDED)}
        left = max(ledger.steps for ledger in ledgers)
        every = own if left >= RESERVED else [file for file in own if looks_at_requirements(file.path, "")]
        new = _named(each, every if left > 0 else (), names, gone)
        asking += [path for path in new if path not in asking]
        if not new:
            new, later = later, {}
            for ledger in ledgers:
                ledger.steps = max(ledger.steps, FOR_DIRECTORIES)
        if not new:
            break
    _programs.clear()
    return {path: agreed(facts) for path, facts in out.items()}


def _batches(ways: Ways) -> list[list[tuple[str, Sequence[int]]]]:
    """The ways in a few parts, for as many processes."""
    every = sorted(ways.items(), key=_importance)[:MAX_WAYS]
    return [part for part in (every[at::PARTS] for at in range(PARTS)) if part]


def _importance(way: tuple[str, Sequence[int]]) -> tuple[bool, int, str]:
    """Those first that are called as files are which look at what is required, then those further up."""
    path, _ = way
    return not looks_at_requirements(path, ""), path.count("/"), path


def _named(
    each: Each, own: Sequence[SourceFile], names: Mapping[str, int], gone: Mapping[str, set[int]]
) -> dict[str, list[int]]:
    """Where some names stand, but where everybody names them, and where it has been looked already."""
    by_file: dict[str, dict[str, list[int]]] = defaultdict(dict)
    words = tuple(name.encode() for name in sorted(names)[:MAX_NAMES])
    for file, told in each(mentions, own, words) if words else ():
        for at, word in told:
            by_file[word.decode()].setdefault(file.path, []).append(at)
    new: dict[str, list[int]] = defaultdict(list)
    for name, places in by_file.items():
        for path, there in places.items() if len(places) <= names[name] else ():
            new[path] += [at for at in there if at not in gone.get(path, ())]
    return {path: at for path, at in new.items() if at}


def _gone(program: Program, path: str, function: Part | None, way: Way, trial_results: TrialResults) -> dict[str, int]:
    """Go one way; who else is to be asked, by name, and in how many files at most."""
    Patience.begin()
    trial: Trial | None = None
    ends = False
    with suppress(RecursionError):  # it is too long: what was found by then counts
        trial = Trial(program, way)
        if (signature := trial.base.signature()) in program.ledger.gone:
            return {}  # on an object of another class, or as what it calls matters by now, and nothing comes of that
        program.ledger.gone.add(signature)
        ends = trial_results.take_all(trial, top=function is None)
    Patience.begin()
    if trial is None:
        return {}
    # What a function ends counts for the whole program if a page calls it first.
    calling = _names_of(function) if ends and function is not None else ()
    return {**dict(_open(path, function, trial)), **dict.fromkeys(calling, MAX_FILES)}


_programs: dict[str, Program] = {}
"""The application that was tried last: there may be more to try."""


def _try(task: _Task) -> bytes:
    """Go some ways.  The answer is packed."""

    def beside(path: str) -> bytes:
        try:
            return read_below(Path(task.root), path, MAX_BESIDE)
        except (OSError, ValueError):
            return b""

    program = _programs.get(task.token)
    if program is None:
        program = Program(
            task.files, task.defined, lambda path: contents(path) or b"", beside, partial(has_directory, task.root)
        )
        _programs.clear()
        _programs[task.token] = program
    program.ledger = task.ledger
    program.matter(task.relevant, task.asking)
    trial_results, open_names = TrialResults(), dict[str, int]()
    for path, places in task.ways:
        if program.ledger.steps < (0 if looks_at_requirements(path, "") else RESERVED):
            continue
        Patience.begin()
        with suppress(RecursionError):
            for function in list(_functions_around(program, path, places)):
                for way in _ways_into(program, path, function):
                    if time.monotonic() < task.ends:
                        open_names |= _gone(program, path, function, way, trial_results)
        program.release()
    return msgspec.msgpack.encode(_Answer(trial_results.facts(), program.ledger, list(open_names.items())))


def _open(path: str, function: Part | None, trial: Trial) -> Iterator[tuple[str, int]]:
    """What others may name whose own answers hang on this way, and in how many files at most."""
    yield from ((name, MAX_FILES) for name in _left_behind(path, function, trial))
    if function is None and _holds_functions(trial.base.value):  # whoever includes the file may call them
        name = posixpath.basename(path).lower()
        yield from ((name, MAX_FILES), (name + _INCLUDED, MAX_FILES))
    world = trial.base.world
    yield from ((posixpath.basename(open_file).lower(), MAX_ASKING) for open_file in world.open_files)
    yield from ((name, MAX_ASKING) for part in world.open | trial.open for name in _names_of(part))


def _left_behind(path: str, function: Part | None, trial: Trial) -> Iterator[str]:
    """What the way gives back, or leaves behind, that hangs on what is there."""
    for kind, name in sorted(trial.otherwise):
        if kind == "class":
            yield re.split(r"[ $]", name)[0]
        elif kind == "constant":
            yield name.lower()
        elif kind == "file" and function is None:
            yield from (name.lower(), posixpath.basename(path).lower() + _INCLUDED)
        elif function is not None and kind in ("", "file", "given"):
            yield from _names_of(function)
            own = names_around(function.node)[0]
            yield from (*trial.program.extending.get(own, ()), *trial.program.extended.get(own, ()))


def _holds_functions(value: Any, depth: int = 0) -> bool:
    """Whether it is a function without a name, or a list of such."""
    inside = value.items.values() if isinstance(value, Array) and depth < MAX_NESTED else ()
    return isinstance(value, Closure) or any(_holds_functions(member, depth + 1) for member in inside)


def _names_of(function: Part) -> Iterator[str]:
    """By what a function is called; a method by its class too."""
    kind, name = names_around(function.node)[0], function.get("name")
    called_so = name.text.lower() if name is not None else ""
    if called_so and (called_so not in _EVERYDAY or not kind):
        yield called_so
    if kind:
        yield kind


def _above(part: Part) -> Iterator[Part]:
    """The parts in which one stands, the innermost first."""
    above = part.above
    while above is not None:
        yield above
        above = above.above


def _alone(function: Part, kind: str, machine: Running) -> tuple[str, Any]:
    return machine.function_alone(function, kind)


def _functions_around(program: Program, path: str, places: Sequence[int]) -> Iterator[Part | None]:
    """Each function in which one of some places stands, and the file's own code (None)."""
    code = program.code(path)
    if code is None:
        return
    functions: dict[Part, None] = {}
    complete = False
    for at in places:
        around = code.around(at)
        # A class without a name is made where it stands: that is gone through, too.
        nameless = bool(around) and any(part.type == "anonymous_class" for part in _above(around[-1]))
        functions |= dict.fromkeys(around[-2 if nameless else -1 :])
        complete = complete or len(around) <= nameless
    yield from functions
    if complete:
        yield None


def _ways_into(program: Program, path: str, function: Part | None) -> Iterator[Way]:
    """A function on an object of its own class, then of those that extend it; by the next way, one has been gone."""
    if function is None:
        yield lambda machine: machine.whole_file(path)
        return
    program.gone_through.clear()
    yield partial(_alone, function, "")
    for kind in program.extending_otherwise(names_around(function.node)[0] or "-", MAX_KINDS):
        yield partial(_alone, function, kind)
