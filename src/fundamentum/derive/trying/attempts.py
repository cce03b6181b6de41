"""The ways into a program, gone one after the other, and what its checks come to."""

import posixpath
import re
import time
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any, Final, Literal, NamedTuple

import msgspec

from fundamentum.derive.application.tree import Each, SourceFile
from fundamentum.derive.php_source.facts import Check, FileFacts, Gate, Wish
from fundamentum.derive.php_source.nodes import Patience, called, heading, names_around
from fundamentum.derive.reading.workers import contents
from fundamentum.derive.statements.host_functions import apart
from fundamentum.derive.statements.outcomes import STRENGTH
from fundamentum.derive.statements.requirement_names import looks_at_requirements
from fundamentum.derive.trying.asking_places import Looked, looked_at, mentions
from fundamentum.derive.trying.bounds import Bound, bounds
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.program import Defined, Program
from fundamentum.derive.trying.running import Running
from fundamentum.derive.trying.said_at import by_choice, need_not_be, on_command_line
from fundamentum.derive.trying.settings import wishes
from fundamentum.derive.trying.trials import SAID, Comes, Told, Trial
from fundamentum.derive.trying.worlds import Asked
from fundamentum.untrusted.files import read_below

_OF_LIBRARIES: Final = "vendor/composer/platform_check.php"
_INCLUDED: Final = " included"
"""Behind the name of a file that is to be gone through where another includes it, but not looked for."""
MAX_NAMES: Final = 120
MAX_WAYS: Final = 400
MAX_ROUNDS: Final = 3
MAX_FILES: Final = 12
"""Files that name a function, or a class: what more name is no matter of what is required."""
MAX_ASKING: Final = 40
"""The same of a function that asks for what it is given."""
_EVERYDAY: Final = frozenset(
    "get set load create make run add call find fetch render __call __get __callstatic __construct __invoke handle "
    "execute init boot register process index main start".split()
)
Ways = Mapping[str, Sequence[int]]
"""File → bytes in the functions that are to be gone through; and the file's own code."""


class _Task(NamedTuple):
    token: str
    """Of one application, and one of the parts in which its ways are gone."""
    files: Sequence[SourceFile]
    defined: Mapping[str, Defined]
    root: str
    asking: Sequence[str]
    """Files that ask something."""
    relevant: Sequence[str]
    """Functions of which the answers matter."""
    ways: Sequence[tuple[str, Sequence[int]]]


class _Answer(msgspec.Struct, array_like=True):
    facts: list[tuple[str, FileFacts]]
    open: list[tuple[str, int]]
    """What others may name whose own answers hang on it: functions, classes, constants, files; in how many, at most."""


def tried(
    root: str, each: Each, map_: Callable[..., Iterable[Any]], files: Sequence[SourceFile]
) -> dict[str, list[Check | Gate | Wish]]:
    """File → what the program's own checks in it come to."""
    own = [file for file in files if file.part == "own" or file.path.endswith(_OF_LIBRARIES)]
    looked: dict[str, Looked] = {file.path: told for file, told in each(looked_at, own, None)}
    new: dict[str, list[int]] = {path: list(told.asks) for path, told in looked.items() if told.asks}
    defined = {path: told.defined for path, told in looked.items()}
    asking, relevant, token = list(new), dict[str, None](), f"{root} {time.monotonic_ns()}"
    gone: dict[str, set[int]] = defaultdict(set)
    out: dict[str, list[Check | Gate | Wish]] = defaultdict(list)
    for _ in range(MAX_ROUNDS + 1):
        names: dict[str, int] = {}
        tasks = [
            _Task(f"{token} {number}", own, defined, root, asking, list(relevant), batch)
            for number, batch in enumerate(_batches(new))
        ]
        for packed in map_(_try, tasks, 1):
            answer = msgspec.msgpack.decode(packed, type=_Answer)
            for path, fact in answer.facts:
                out[path] += [*fact.checks, *fact.gates, *fact.wishes]
            names |= dict(answer.open)
        for path, places in new.items():
            gone[path].update(places)
        names = {name: most for name, most in names.items() if name.removesuffix(_INCLUDED) not in relevant}
        relevant |= {name.removesuffix(_INCLUDED): None for name in names}
        names = {name: most for name, most in names.items() if not name.endswith(_INCLUDED)}
        new = _named(each, own, names, gone)
        asking += [path for path in new if path not in asking]
        if not new:
            break
    return out


def _batches(ways: Ways) -> list[list[tuple[str, Sequence[int]]]]:
    """The ways in a few parts, for as many processes."""
    every = sorted(ways.items(), key=_importance)[:MAX_WAYS]
    return [part for part in (every[at::PROCESSES] for at in range(PROCESSES)) if part]


PROCESSES: Final = 2


def _importance(way: tuple[str, Sequence[int]]) -> tuple[bool, int, str]:
    """Those first that are called as files are which look at what is required, then those further up."""
    path, _ = way
    return not looks_at_requirements(path, ""), path.count("/"), path


def _named(
    each: Each, own: Sequence[SourceFile], names: Mapping[str, int], gone: Mapping[str, set[int]]
) -> dict[str, list[int]]:
    """Where some names stand, but where everybody names them, and where it has been looked already."""
    found: dict[str, dict[str, list[int]]] = defaultdict(dict)
    words = tuple(name.encode() for name in list(names)[:MAX_NAMES])
    for file, told in each(mentions, own, words) if words else ():
        for at, word in told:
            found[word.decode()].setdefault(file.path, []).append(at)
    new: dict[str, list[int]] = defaultdict(list)
    for name, places in found.items():
        for path, there in places.items() if len(places) <= names[name] else ():
            new[path] += [at for at in there if at not in gone.get(path, ())]
    return {path: at for path, at in new.items() if at}


_programs: dict[str, Program] = {}
"""The parts of the application that was tried last: there may be more to try."""


def _try(task: _Task) -> bytes:
    """Go some ways.  The answer is packed."""

    def beside(path: str) -> bytes:
        try:
            return read_below(Path(task.root), path, MAX_BESIDE)
        except (OSError, ValueError):
            return b""

    program = _programs.get(task.token)
    if program is None:
        program = Program(task.files, task.defined, lambda path: contents(path) or b"", beside)
        for other in [one for one in _programs if one.rpartition(" ")[0] != task.token.rpartition(" ")[0]]:
            del _programs[other]
        _programs[task.token] = program
    program.matter(task.relevant, task.asking)
    found, open_names = _Found(), dict[str, int]()
    for path, places in task.ways:
        Patience.begin()
        with suppress(RecursionError):
            for function, trial in _trials(program, path, places):
                top = function is None
                for told in trial.told():
                    found.take(told, top)
                for bound in bounds(trial):
                    found.take_bound(bound, top)
                for where, wish in wishes(trial):
                    found.take_wish(where, wish)
                open_names = dict(_open(path, function, trial)) | open_names
    return msgspec.msgpack.encode(_Answer(found.facts(), list(open_names.items())))


def _open(path: str, function: Part | None, trial: Trial) -> Iterator[tuple[str, int]]:
    """What others may name whose own answers hang on this way, and in how many files at most."""
    yield from ((name, MAX_FILES) for name in _left_behind(path, function, trial))
    world = trial.base.world
    yield from ((posixpath.basename(one).lower(), MAX_ASKING) for one in world.open_files)
    yield from ((name, MAX_ASKING) for part in world.open for name in _names_of(part))


def _left_behind(path: str, function: Part | None, trial: Trial) -> Iterator[str]:
    """What the way gives back, or leaves behind, that hangs on what is there."""
    for kind, name in trial.otherwise:
        if kind == "class":
            yield re.split(r"[ $]", name)[0]
        elif kind == "constant":
            yield name.lower()
        elif kind == "file" and function is None:
            yield from (name.lower(), posixpath.basename(path).lower() + _INCLUDED)
        elif function is not None and not kind:
            yield from _names_of(function)


def _names_of(function: Part) -> Iterator[str]:
    """By what a function is called; a method by its class too."""
    kind, name = names_around(function.node)[0], function.get("name")
    called_so = name.text.lower() if name is not None else ""
    if called_so and (called_so not in _EVERYDAY or not kind):
        yield called_so
    if kind:
        yield kind


Result = Literal["asked", "exits", "leaves", "throws", "reports", "warns", "listed-required", "listed-recommended"]
_WEIGHT: Final = ("asked", "listed-recommended", "warns", "throws", "reports", "leaves", "listed-required", "exits")
MAX_BESIDE: Final = 100_000


class _Found:
    """What all trials told, of each place the strongest."""

    def __init__(self) -> None:
        self.checks: dict[tuple[str, str, int, tuple[str, ...]], Check] = {}
        self.gates: dict[tuple[str, int, str], Gate] = {}
        self.wishes: dict[tuple[str, str, int], Wish] = {}

    def take(self, told: Told, top: bool) -> None:
        """What comes of an extension.  ``top``: of a file that is gone through as a whole."""
        where = told.asked.where
        if not where.file.path:
            return
        among = told.names if len(told.names) > 1 else ()
        for name in told.names:
            of_name = told.asked
            outcome: Result = _outcome(told.comes, top, of_name)
            if outcome != "asked" and (by_choice(of_name.part, name) or by_choice(of_name.where, name)):
                outcome = "asked"
            if outcome == "asked" and called(of_name.part.node) in _FOR_EACH:
                continue  # it may be only shown
            if need_not_be(of_name.where):
                outcome = "warns" if outcome != "asked" or of_name.listed else outcome
            elif outcome == "asked" and of_name.listed and not among:
                outcome = "listed-required"
            if outcome in ("throws", "reports") and told.comes.how != SAID and _in_list(where):
                outcome = "listed-required"
            check = Check(
                name, outcome, where.line, of_name.part.text[:60], among if outcome != "asked" else (),
                _around(of_name), command_line=on_command_line(of_name.part),
            )  # fmt: skip
            key = (where.file.path, name, where.line, check.among)
            known = self.checks.get(key)
            if known is None or _WEIGHT.index(known.outcome) < _WEIGHT.index(outcome):
                self.checks[key] = check

    def take_bound(self, bound: Bound, top: bool) -> None:
        """A bound of PHP's version."""
        part = bound.asked.part
        in_function = names_around(part.node)[1] and not (top and bound.outcome == "stops")
        gate = Gate(
            bound.operator,
            bound.version,
            part.line,
            part.text[:60],
            bound.outcome,
            _around(bound.asked) if in_function else "",
        )
        key = (part.file.path, part.line, bound.operator)
        known = self.gates.get(key)
        if known is None or STRENGTH.index(known.outcome) < STRENGTH.index(gate.outcome):
            self.gates[key] = gate

    def take_wish(self, path: str, wish: Wish) -> None:
        """A setting that something depends on."""
        known = self.wishes.get((path, wish.name, wish.line))
        if path and (known is None or (wish.stops and not known.stops)):
            self.wishes[path, wish.name, wish.line] = wish

    def facts(self) -> list[tuple[str, FileFacts]]:
        """File → its checks, gates and wishes."""
        by_path: dict[str, list[Check]] = defaultdict(list)
        for (path, *_), check in self.checks.items():
            by_path[path].append(check)
        out = []
        for path in by_path.keys() | {path for path, *_ in (*self.gates, *self.wishes)}:
            checks, of_hosts = apart(by_path.get(path, ()))
            more = tuple(wish for (where, *_), wish in self.wishes.items() if where == path)
            of_path = tuple(gate for (where, *_), gate in self.gates.items() if where == path)
            out.append((path, FileFacts(checks=checks, gates=of_path, wishes=(*of_hosts, *more))))
        return out


def _alone(function: Part, kind: str, machine: Running) -> tuple[str, Any]:
    return machine.function_alone(function, kind)


def _in_list(where: Part) -> bool:
    """Whether a name is a member of a list, or a key of it."""
    element = where.above
    return element is not None and element.type == "array_element_initializer"


def _around(asked: Asked) -> str:
    """The names of the classes and functions around the name, and around what asks for it."""
    near, far = asked.where.node, asked.part.node
    return " ".join((*names_around(near), *names_around(far), heading(near), heading(far)))[:200]


def _outcome(comes: Comes, top: bool, asked: Asked) -> Result:
    if comes.doubt or not comes.outcome:
        return "asked"
    if comes.outcome != "stops":
        return comes.outcome
    if comes.how == "leaves":
        return "leaves" if top else "asked"
    if top and not (comes.how == "throws" and asked.doubt):
        return "exits"
    return "exits" if comes.how == "exits" and "extension_loaded" in asked.part.text else "throws"


def _trials(program: Program, path: str, places: Sequence[int]) -> Iterator[tuple[Part | None, Trial]]:
    """The file's own code, and each function in which one of some places stands."""
    code = program.code(path)
    if code is None:
        return
    if not all(map(code.around, places)):
        yield None, Trial(program, lambda machine: machine.whole_file(path))
    functions = {id(around[-1]): around[-1] for at in places if (around := code.around(at))}
    for function in functions.values():
        for kind in ("", *program.extending.get(names_around(function.node)[0] or "-", ())[:MAX_KINDS]):
            yield function, Trial(program, partial(_alone, function, kind))


_FOR_EACH: Final = ("array_map",)
MAX_KINDS: Final = 20
