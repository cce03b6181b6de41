"""Which PHP an application runs on: what it states, held against the constructs and symbols that it uses."""

from collections.abc import Callable, Iterator, Sequence
from typing import Final

from fundamentum.catalog import branch_key
from fundamentum.derive.beside.stated import Manifest, lowest_stated
from fundamentum.derive.php_source.facts import Syntax
from fundamentum.derive.reading.parsing import Parsing
from fundamentum.derive.result import Entry, Place
from fundamentum.derive.statements.callers import Callers
from fundamentum.derive.statements.statements import Bound, Statements
from fundamentum.derive.weighing.evidence import Evidence
from fundamentum.derive.weighing.source_bounds import Places, SourceBounds
from fundamentum.model.constraints import EVERYTHING, as_range, common, intervals
from fundamentum.model.needs_value import NotUnderstood

FRONT: Final = 2
"""Directories below an application's own in which a gate is one for the whole program."""


def php_of(
    parsing: Parsing,
    evidence: Evidence,
    callers: Callers,
    manifest: Manifest,
    said: Statements,
    base: str,
    every_visitor: Callable[[str], bool],
) -> tuple[Entry | None, str, list[str]]:
    """The need for a version of PHP, the lowest branch accepted, and remarks where statement and source differ.

    ``base``: the application's own directory below the one that is looked at; ``every_visitor``: whether
    all of them come by a file, which is no page among others and no script for the command line.
    """
    remarks: list[str] = []
    stated = lowest_stated(manifest)
    if not stated and (least_said := said.lower()):
        stated = _branch(least_said.version)
    bounds = SourceBounds(parsing, evidence, callers, stated)
    bound, lower = bounds.lower()
    least = max(filter(None, (bound, stated)), key=branch_key, default="")
    upper = bounds.upper(least)
    if not (least and branch_key(least) >= (7, 0)) and (removed := _removed(said, evidence)):
        upper = removed
    readable = bounds.readable()
    if not manifest.php and (said.lower() or said.upper()):
        entry = _as_said(said, bound, lower, upper, remarks, base, manifest, readable)
        return entry, stated or bound, remarks
    ends = [end for end in said.ends() if _at_front(end, base) and every_visitor(end.path)]
    return _entry(manifest, bound, lower, upper, remarks, said, readable, ends), stated or bound, remarks


def _removed(said: Statements, evidence: Evidence) -> Places:
    """Calls of what is gone with 7.0, unless the application has another way for databases, or it is one of several."""
    uses = evidence.uses_by_extension()
    if any(uses.get(name) for name in ("mysqli", "pdo", "pdo_mysql", "pgsql", "sqlite3")):
        return []
    plain = (bound for bound in said.removed if not evidence.driver(bound.path, "", "mysqli"))
    return [(bound.path, Syntax("", "7.0", bound.what, bound.line)) for bound in plain]


def _as_said(
    said: Statements,
    bound: str,
    lower: Places,
    upper: Places,
    remarks: list[str],
    base: str,
    manifest: Manifest,
    readable: str,
) -> Entry:
    """What the program itself states, with what its source uses where it states nothing.

    ``manifest``: what its libraries accept; ``readable``: the lowest branch that can read its source.
    """
    least, first_not = said.lower(), said.upper()
    stated = [end for end in (least, first_not) if end]
    places = [Place(end.path, end.line, end.what, "the program states it") for end in stated]
    low = least.version if least else bound
    if least and lower:
        path, construct = lower[0]
        low = low if _at_front(least, base) else bound
        counts = ": that counts" if bound in (low, readable) else ""
        remarks.append(
            f"{least.path}:{least.line} says that it needs PHP {least.version}, but {path}:{construct.line} uses "
            f"{construct.what}, which needs {bound}{counts}"
        )
    if readable and branch_key(readable) > branch_key(_branch(low)):
        low = readable
    of_libraries, told = lowest_stated(manifest), list[Place]()
    if of_libraries and (not low or branch_key(of_libraries) > branch_key(_branch(low))):
        low, told = of_libraries, _of_libraries(manifest)
    text = f">={low}" if low else ""
    gone = upper[0][1].gone if upper else ""
    above = first_not and (not low or branch_key(_branch(first_not.version)) > branch_key(_branch(low)))
    beyond = [first_not.version] if first_not and above else []  # else it speaks of something else
    beyond += [gone] if gone and (not low or branch_key(gone) > branch_key(_branch(low))) else []
    if beyond:
        text += f", <{min(beyond, key=lambda version: branch_key(_branch(version)))}"
    against = [_place(path, construct, f"gone with PHP {construct.gone}") for path, construct in upper[:6]]
    uses = [_place(path, construct, f"since PHP {construct.since}") for path, construct in lower[:6]]
    everything = (*places, *told, *uses, *against)
    return Entry("php", (), "required", text.removeprefix(", "), "the program itself states it", everything)


def _at_front(gate: Bound, base: str) -> bool:
    """Whether the whole program ends there, whatever is asked for; one further in speaks for what is behind it."""
    return gate.outcome == "stops" and not gate.aside and gate.path.count("/") <= FRONT + base.count("/")


def _of_libraries(manifest: Manifest) -> list[Place]:
    return [Place(where, 0, f"php {php}", "a library states it") for php, where in manifest.of_libraries[:6]]


def _branch(version: str) -> str:
    return ".".join([*version.split("."), "0"][:2])


def _entry(
    manifest: Manifest,
    bound: str,
    lower: Sequence[tuple[str, Syntax]],
    upper: Sequence[tuple[str, Syntax]],
    remarks: list[str],
    said: Statements,
    readable: str,
    ends: Sequence[Bound],
) -> Entry | None:
    """What the manifest states, or the source uses.  ``ends``: versions on which the program ends at the front."""
    accepted = manifest.accepted
    places = [_place(path, construct, f"since PHP {construct.since}") for path, construct in lower[:6]]
    against = [_place(path, construct, f"gone with PHP {construct.gone}") for path, construct in upper[:6]]
    if manifest.php and accepted != (EVERYTHING,):
        remarks += _differing(manifest, bound if lower else "", lower, upper, said.lower(), readable, ends)
        runs = common(accepted, intervals(f">={readable}" if readable else "*")) or accepted
        told = [_placed(manifest.php_where, f"php {manifest.php}")]
        for end in ends:
            left = common(runs, intervals(f"{end.operator}{end.version}"))
            if left and left != runs:
                runs = left
                told.append(Place(end.path, end.line, end.what, "the program ends there on others"))
        value = str(as_range(runs))
        return Entry("php", (), "required", value, "the manifest states it", (*told, *places, *against))
    text = f">={bound}" if bound else ""
    if upper and (not bound or branch_key(upper[0][1].gone) > branch_key(bound)):
        text = f"{text}, <{upper[0][1].gone}".removeprefix(", ")
    if accepted != (EVERYTHING,):
        try:
            both = common(accepted, intervals(text or "*"))
            text = str(as_range(both)) if both else text
        except NotUnderstood:
            pass
        rule = "what its libraries state and its source uses"
        places = [*_of_libraries(manifest), *places]
    else:
        rule = "the constructs and functions that its source uses"
    if not text:
        return None
    return Entry("php", (), "required", text, rule, (*places, *against))


def _differing(
    manifest: Manifest,
    bound: str,
    lower: Sequence[tuple[str, Syntax]],
    upper: Sequence[tuple[str, Syntax]],
    least: Bound | None,
    readable: str,
    ends: Sequence[Bound],
) -> Iterator[str]:
    """Where the manifest accepts what the source, or the program's own statements, do not; and what counts."""
    first, last = manifest.accepted[0].low[:2], manifest.accepted[-1].high[:2]
    accepts = f"the manifest accepts PHP {'.'.join(map(str, first))}"
    if bound and branch_key(bound) > first:
        path, used = lower[0]
        counts = ": that counts" if bound == readable else ""
        yield f"{accepts}, but {path}:{used.line} uses {used.what}, which needs {bound}{counts}"
    if upper and branch_key(upper[0][1].gone) < last:
        path, used = upper[0]
        yield f"{path}:{used.line} uses {used.what}, which is gone with PHP {used.gone}, though the manifest accepts it"
    if least and branch_key(_branch(least.version)) > first:
        counts = ": that counts" if least in ends else ""
        yield f"{accepts}, but {least.path}:{least.line} says that it needs {least.version}{counts}"
    for end in ends:
        if end.operator == "<" and branch_key(_branch(end.version)) < last:
            counts = ": that counts" if branch_key(_branch(end.version)) > first else ""
            where = f"{end.path}:{end.line}"
            yield f"{where} ends the program from PHP {end.version} on, though the manifest accepts it{counts}"


def _place(path: str, syntax: Syntax, how: str) -> Place:
    return Place(path, syntax.line, syntax.what, how)


def _placed(where: str, what: str) -> Place:
    path, _, line = where.rpartition(":")
    return Place(path, int(line), what, "stated") if line.isdigit() else Place(where, 0, what, "stated")
