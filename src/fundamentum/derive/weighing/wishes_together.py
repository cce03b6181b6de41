"""What all files of an application wish for together: settings, commands, directories, functions."""

import re
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path, PurePosixPath
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog.quantity import quantity
from fundamentum.derive.application.tree import Each, Tree, has_directory
from fundamentum.derive.beside.settings_files import wishes_of_files
from fundamentum.derive.php_source.facts import Wish
from fundamentum.derive.result import Entry, Place
from fundamentum.derive.statements.configured_directories import IN_SETTINGS
from fundamentum.derive.statements.host_functions import ANY_OF
from fundamentum.derive.statements.limit_tables import IN_TABLE
from fundamentum.derive.statements.requirement_names import OF_REQUIREMENTS, looks_at_requirements
from fundamentum.derive.statements.uploaded_sizes import ELSEWHERE, number_of
from fundamentum.derive.statements.wishes import DIRECTORIES
from fundamentum.derive.statements.written_files import IN_A_FILE, PLACES
from fundamentum.derive.weighing.beneath_stated import BENEATH
from fundamentum.derive.weighing.evidence import Evidence
from fundamentum.derive.weighing.pages import is_page
from fundamentum.model.needs_value import Level

MAX_PLACES: Final = 12
"""Places that are told of one need."""
_WHY: Final = {
    "command": "the application runs it",
    "directory": "the application writes there",
    "function": "the application calls it, and some hosts switch it off",
    "web_module": "the application asks for it under Apache",
}
_OTHERWISE: Final = {"function": "switched off", "command": "missing"}
_DIAGNOSING: Final = re.compile(
    r"(?:^|[/_.-])(?:diag(?:nos\w*)?|debug\w*|php-?info|sys(?:tem)?-?(?:info|status)|server-?(?:info|status)|benchmark)"
    r"(?:[/_.-]|$)",
    re.I,
)
"""Scripts that show how a server does: what they run is nothing that the application offers."""
_FILE: Final = re.compile(r"[^/]\.[a-z]\w{1,4}$")
"""A name that ends as those of files do: ``config.php``"""
OF_CODE: Final = 5
"""Files of source from which on a directory is one of the program's code, and not of what it writes."""
_WRITING: Final = (
    IN_A_FILE,
    IN_SETTINGS,
    *(f"{name}()" for name in (*PLACES, *DIRECTORIES) if name[:3] not in ("is_", "mkd")),
)

_KEEPING: Final = (IN_A_FILE, "move_uploaded_file()", "session_save_path()")
"""What cannot be done where a directory is not there, and is what the program is for."""


def wished(tree: Tree, evidence: Evidence, each: Each, is_script: Callable[[str], bool]) -> Iterable[Entry]:
    """The wishes of the application's own files, and those of its settings files; of several values the strongest.

    Where scripts write that are for the command line, pages need not.
    """
    by_name: dict[tuple[str, str], list[tuple[str, Wish]]] = defaultdict(list)
    own_wishes = [
        (path, wish)
        for path, facts in evidence.facts.items()
        if evidence.files[path].part == "own"
        for wish in facts.wishes
        if wish.kind not in BENEATH and (wish.kind == "setting" or not _DIAGNOSING.search(path))
        if not (wish.kind == "directory" and wish.how.startswith(_WRITING) and is_script(path))
    ]
    scripts = {file.path.rpartition("/")[2] for file in tree.sources}
    for path, wish in _with_constants(each, evidence, own_wishes):
        name = _named(tree, path, wish)
        if name and not (wish.kind == "command" and name in scripts):  # one of its own is there
            by_name[wish.kind, name].append((path, wish))
    own = [path for path in tree.others if "/vendor/" not in f"/{path}"]
    for path, wish in wishes_of_files(Path(tree.root), own):
        by_name[wish.kind, wish.name].append((path, wish))
    for (kind, name), wishes in sorted(by_name.items()):
        # What comes of a limit tells more than what a table of it is called.
        wishes = [told for told in wishes if not told[1].how.startswith(IN_TABLE)] or wishes
        if kind != "setting" or _strongest([wish.value for _, wish in wishes]):
            yield _together(kind, name, [(path, _for_its_page(path, wish, evidence)) for path, wish in wishes])


def _for_its_page(path: str, wish: Wish, evidence: Evidence) -> Wish:
    """A wish; what one of many pages ends without is needed for that page alone."""
    ends = wish.kind in ("directory", "command") and wish.around == OF_REQUIREMENTS
    return replace(wish, stops=wish.stops and not (ends and is_page(path, evidence.files)))


def _together(kind: str, name: str, wishes: list[tuple[str, Wish]]) -> Entry:
    """One need, of all wishes for it: with the strongest value, and the places that wish for that first."""
    value = _strongest([wish.value for _, wish in wishes])
    wishes.sort(key=lambda stated: (stated[1].value != value, not stated[1].stops, stated[0].count("/"), stated[0]))
    every: dict[tuple[str, int], Place] = {}
    for path, wish in wishes:
        every.setdefault((path, wish.line), Place(path, wish.line, wish.how))
    stops = any(_stops(path, wish) for path, wish in wishes if wish.value == value)
    level: Level = "required" if stops else "recommended"
    names = tuple(name.split(ANY_OF))
    otherwise = "all of these are missing" if len(names) > 1 else f"it is {_OTHERWISE.get(kind, 'otherwise')}"
    otherwise = "it is less" if value.startswith(">=") else otherwise
    reports = f"the program reports an error where {otherwise}"
    rule = reports if stops else _WHY.get(kind) or _why_set(wishes[0][1])
    places = tuple(list(every.values())[:MAX_PLACES])
    files = len({path for path, _ in wishes})
    return Entry(kind, names, level, value, rule, places, files)  # type: ignore[arg-type]


def _with_constants(each: Each, evidence: Evidence, wishes: Sequence[tuple[str, Wish]]) -> Iterator[tuple[str, Wish]]:
    """The wishes, those with the name of a constant that another file defines with its value; else none."""
    mark = f">= {ELSEWHERE}"
    wanted = {wish.value.removeprefix(mark) for _, wish in wishes if wish.value.startswith(mark)} - {""}
    values: dict[str, str] = {}
    own = [file for file in evidence.files.values() if file.part == "own"]
    for _, defined in each(_defined_in, own, tuple(sorted(wanted))) if wanted else ():
        values = defined | values
    for path, wish in wishes:
        if not wish.value.startswith(mark):
            yield path, wish
        elif value := number_of(values.get(wish.value.removeprefix(mark), ""), wish.name):
            yield path, replace(wish, value=f">= {value}")


def _defined_in(data: bytes, names: Sequence[str]) -> dict[str, str]:
    """The numbers that constants of some names are defined as in one file."""
    words = b"|".join(re.escape(name.encode()) for name in names)
    defined = re.compile(
        rb"(?:define\s*\(\s*['\"]|const\s+(?:\w+\s+)?)(%s)['\"]?\s*[=,]\s*([\d'\"][\w\s*'\"]{0,40})" % words
    )
    return {match[1].decode(): match[2].decode("latin-1").strip() for match in defined.finditer(data)}


def _stops(path: str, wish: Wish) -> bool:
    """Whether the program is of no use where a setting is otherwise; of a switch, one part alone may be."""
    return wish.stops and (wish.value.startswith(">=") or looks_at_requirements(path, wish.around))


def _why_set(wish: Wish) -> str:
    if wish.how.startswith(("ini_set", "set_time_limit")):
        return "the application sets it itself"
    if wish.how.startswith("$_FILES"):
        return "the application takes files of that size"
    if wish.how.endswith("is asked"):
        return "a part of the application asks for it" if wish.stops else "the program advises it"
    if wish.how.startswith("ini_get"):
        return "the application asks for that much"
    return "a settings file of the application says so"


def _named(tree: Tree, path: str, wish: Wish) -> str:
    """What is wished for; a directory from the application's root on, and only where that is sure."""
    if wish.kind != "directory":
        return wish.name
    from_root = wish.name.startswith("?/")
    if from_root:
        name = "/".join(part for part in (tree.base, wish.name[2:]) if part)
    elif wish.name.startswith("."):
        name = _from_root(path, wish.name)
    else:
        name = wish.name[1:] if wish.name.startswith("/") else "/".join(filter(None, (tree.base, wish.name)))
    if not name:
        return ""
    if not has_directory(tree.root, name):
        # Where it is left out of what is handed out, whatever is kept there alone tells that it has to be made.
        unsure = wish.how.startswith(_WRITING) and not (wish.how in _KEEPING and wish.name.startswith((".", "/")))
        return "" if from_root or unsure or _FILE.search(name) else name
    return "" if not wish.stops and _holds_code(tree, name) else name


def _holds_code(tree: Tree, directory: str) -> bool:
    """Whether it holds the program itself: who asks whether it may write there wants to know if it can renew itself."""
    beginning = f"{directory.rstrip('/')}/"
    held = (file for file in tree.sources if file.part in ("own", "optional") and file.path.startswith(beginning))
    return sum(1 for _ in held) >= OF_CODE


def _from_root(path: str, written: str) -> str:
    """From the application's root on; empty for what lies outside of it."""
    parts: list[str] = []
    for part in (*PurePosixPath(path).parent.parts, *PurePosixPath(written).parts):
        if part == ".." and not parts:
            return ""  # beside the application, which is none of its directories
        if part == "..":
            parts.pop()
        elif part != ".":
            parts.append(part)
    return "/".join(parts) or "."


def _strongest(values: Sequence[str]) -> str:
    sizes = [value for value in values if value.startswith(">=")]
    if sizes:
        return max(sizes, key=lambda value: quantity(value.removeprefix(">=").strip()).number)
    switches = {value for value in values if value}
    return switches.pop() if len(switches) == 1 else ""
