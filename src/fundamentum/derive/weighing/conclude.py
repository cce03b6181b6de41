"""From all that a tree's files and manifests tell to the application's needs."""

import functools
import re
from collections.abc import Sequence
from contextlib import suppress
from pathlib import PurePosixPath
from typing import Final

from fundamentum.catalog.symbols import EVERYWHERE
from fundamentum.derive.application.libraries import LibraryNames
from fundamentum.derive.application.missing_parts import without_libraries
from fundamentum.derive.application.tree import Tree
from fundamentum.derive.beside.configuration_samples import chosen_drivers, offered_databases
from fundamentum.derive.beside.documents import documents, with_documents
from fundamentum.derive.beside.packaged import branch_of_container, branch_of_developers, packaged_with
from fundamentum.derive.beside.sql_schemas import written_for
from fundamentum.derive.beside.stated import Manifest
from fundamentum.derive.beside.switched_on import switched_on
from fundamentum.derive.families import DATABASES, TOOLS
from fundamentum.derive.reading.parsing import Parsing
from fundamentum.derive.reading.scan import Progress, Scan, Scanned
from fundamentum.derive.result import Derived, Entry, Place
from fundamentum.derive.statements.callers import Callers, Reached
from fundamentum.derive.statements.composed_names import composed_names
from fundamentum.derive.statements.ending_functions import with_endings
from fundamentum.derive.statements.statements import statements
from fundamentum.derive.trying.attempts import tried
from fundamentum.derive.trying.shell_scripts import asked_in_scripts
from fundamentum.derive.weighing.advised_php import advised_by_itself, advised_php
from fundamentum.derive.weighing.around import around_php
from fundamentum.derive.weighing.command_line import Scripts, for_the_command_line
from fundamentum.derive.weighing.evidence import Evidence, extensions_seen
from fundamentum.derive.weighing.levels import entries
from fundamentum.derive.weighing.pages import is_one_of_many, pages_that_end
from fundamentum.derive.weighing.versions import php_of
from fundamentum.derive.weighing.weigh import judge
from fundamentum.model.constraints import EVERYTHING
from fundamentum.untrusted.budget import Budget, Spent

MAX_PATH: Final = 120
"""Characters of a path in a reason."""
MAX_UNREADABLE: Final = 5
"""Files that are named one by one."""


def conclude(
    tree: Tree,
    manifest: Manifest,
    libraries: LibraryNames,
    scan: Scan,
    progress: Progress,
    budget: Budget,
    *,
    everything: bool = False,
) -> Derived:
    """The needs, with the evidence for each, as far as the budget goes."""
    remarks = [*tree.remarks, *manifest.remarks, *without_libraries(tree)]
    scanned = scan.finished(progress, remarks, budget)
    parsing = Parsing(scan.workers, scanned, progress, budget, everything=everything)
    composed = functools.partial(composed_names, parsing.each, scan.files)
    evidence = Evidence(scanned, parsing.facts, manifest, composed)
    is_script, callers = Scripts(tree.root), Callers(parsing.each, scan.files)
    with suppress(Spent):
        parsing.first()
        parsing.add(tried(tree.root, parsing.each, scan.workers.map, scan.files, budget.ends))
        budget.tick()
        parsing.facts.update(with_endings(parsing.each, scan.files, parsing.facts))
        _settle(evidence, parsing, callers, is_script)
    # Where manifests tell what the libraries accept, nothing else is needed for that.
    of_libraries = manifest.accepted == (EVERYTHING,)
    stated = statements(tree.base, scan.files, parsing.facts, of_libraries=of_libraries)

    def every_visitor(path: str) -> bool:
        return not (is_script(path) or is_one_of_many(path, evidence.files, callers.included))

    php, lowest, differing = php_of(parsing, evidence, callers, manifest, stated, tree.base, every_visitor)
    said = documents(tree.root, tree.base)
    evidence.offered, evidence.experimental = offered_databases(tree.root, tree.base), said.experimental
    seen = extensions_seen(scanned, parsing.facts, manifest)
    called = _called(evidence, libraries)
    needed, left_out = entries(evidence, [judge(evidence, extension, called) for extension in seen], lowest)
    needed = for_the_command_line(is_script, needed, evidence, callers)
    php = _told_beside(tree, php, needed)
    php, needed, otherwise = with_documents(php, needed, said, EVERYWHERE)
    differing += otherwise
    around = around_php(tree, evidence, parsing.each, scan.files, is_script, said, needed, left_out)
    told = (*branch_of_container(tree.root, tree.base), *branch_of_developers(tree.root, tree.base))
    advised = advised_php(php, [*advised_by_itself(stated), *said.preferred, *told])
    if budget.over():
        remarks.append(f"reading stopped after {budget.spent}: needs may be missing, and levels too low or too high")
    needs = [*([php] if php else []), *advised, *around, *_unread(tree, scan, budget)]
    remarks += _broken(evidence)
    name = manifest.name or _name_of(f"{tree.root}/{tree.base}".rstrip("/"))
    return Derived(
        _clean_name(name), manifest.version, tuple(needs), tuple(left_out), len(scan.files),
        sum(file.size for file in scan.files), len(parsing.facts), (*remarks, *differing),
    )  # fmt: skip


def _unread(tree: Tree, scan: Scan, budget: Budget) -> list[Entry]:
    """That not all of the application's own files were looked at, and why: what those need is in none of the needs."""
    places = tuple(Place(file.path, 0, "cannot be read") for file in scan.unreadable[:MAX_UNREADABLE])
    others = f" and {len(scan.unreadable) - 1} more" if scan.unreadable[1:] else ""
    why = [
        tree.unread,
        f"reading stopped after {budget.spent}" if budget.spent else "",
        f"{places[0].path[:MAX_PATH]}{others} cannot be read" if places else "",
    ]
    told = "; ".join(filter(None, why))
    return [Entry("unread", ("files",), "required", told, f"{told}: that may need more", places)] if told else []


def _told_beside(tree: Tree, php: Entry | None, needed: list[Entry]) -> Entry | None:
    """Adds to the needs what stands beside the source; the version of PHP, that of this where there was none."""
    for reader in _BESIDE:
        named = frozenset(name for entry in needed for name in entry.names)
        told = [*reader(tree.root, tree.base, named)]
        php = php or next((entry for entry in told if entry.kind == "php"), None)
        needed += [entry for entry in told if entry.kind != "php" and TOOLS.isdisjoint(entry.names)]
    return php


def _broken(evidence: Evidence) -> list[str]:
    """What there is to say of files of the application's own that the parser does not take as a whole."""
    broken = [path for path, facts in evidence.facts.items() if facts.broken and evidence.files[path].part == "own"]
    and_more = f", and {len(broken) - 1} more" if broken[1:] else ""
    return [f"{broken[0]} cannot be parsed as a whole{and_more}"] if broken else []


_BESIDE: Final = (chosen_drivers, written_for, switched_on, packaged_with, asked_in_scripts)
"""What stands beside the source, in the order in which it is believed: each tells what nothing before has named."""
_ALL_COUNT: Final = frozenset({*DATABASES, "pdo"})
"""Of which every use counts: whether they can stand for each other depends on all of them."""


def _settle(evidence: Evidence, parsing: Parsing, callers: Callers, is_script: Scripts) -> None:
    """Parse on until nothing can change; from where code is reached may tell that more has to be parsed."""
    evidence.pages = pages_that_end(parsing.facts, evidence.files, is_script, callers.included)
    before: Reached | None = None
    while before != evidence.reached:
        parsing.settle(functools.partial(_settled, evidence, is_script))
        asked = {check.extension for facts in parsing.facts.values() for check in facts.checks}
        before, evidence.reached = (
            evidence.reached,
            callers.reached(evidence.unguarded(asked), asked, evidence.protects),
        )
        evidence.fallbacks = callers.fallbacks(evidence.without_another)


def _settled(evidence: Evidence, is_script: Scripts, extension: str, left: Sequence[Scanned]) -> bool:
    """Whether no file that is left could change the level.

    So it is where a manifest requires it; where pages use it without a check, and no place asks for it; and where the
    files that are left are too few to outnumber those that use it without a check, or those that use it behind one.
    """
    if any(statement.level == "required" for statement in evidence.stated(extension)):
        return True
    plain, protected, instead = evidence.standing(extension)
    if extension in _ALL_COUNT or all(map(is_script, plain | protected)) or (instead and not plain):
        return False
    if not evidence.checks(extension):
        return len(plain) > 1
    others = sum(scanned.file.part in ("own", "optional") for scanned in left)
    return len(plain) > len(protected) + others or (
        len(protected) >= len(plain) + others and not evidence.central(extension)
    )


def _called(evidence: Evidence, libraries: LibraryNames) -> frozenset[str]:
    """Bundled libraries that something outside them names.  Those of a package manager are loaded by name and count."""
    stated = evidence.manifest.stated
    bundled = {scanned.file.library for scanned in evidence.scanned if scanned.file.library}
    called = {library for library in bundled if any(library.endswith(name) for name in stated)}
    for scanned in evidence.scanned:
        if scanned.file.part in ("own", "optional"):
            for names in (libraries.classes, libraries.directories):
                for name in scanned.words & names.keys():
                    called |= names[name]
    return frozenset(called)


_NO_NAMES: Final = frozenset("src htdocs www public html share php lib current web webroot upload".split())
"""Directories that are called after what they hold."""


def _name_of(root: str) -> str:
    path = PurePosixPath(root)
    if path.name in _NO_NAMES and path.parent.name:
        return path.parent.name
    return path.name


def _clean_name(name: str) -> str:
    """A name that a needs file takes."""
    cleaned = re.sub(r"[^A-Za-z0-9._-]+", "-", name).strip("-._")[:64]
    return cleaned or "application"
