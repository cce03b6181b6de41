"""All that an application needs beside PHP and its extensions: from its source, its own lists and its documents."""

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path

from fundamentum.derive.application.tree import Each, SourceFile, Tree
from fundamentum.derive.beside.container_services import container_services
from fundamentum.derive.beside.documents import Said, beside_documents
from fundamentum.derive.beside.packaged_around import packaged_around
from fundamentum.derive.beside.platform_packages import with_demands
from fundamentum.derive.beside.schedules_in_source import scheduled_in_source
from fundamentum.derive.beside.stated_surroundings import stated_surroundings
from fundamentum.derive.beside.web_modules import web_modules
from fundamentum.derive.result import Entry, Place
from fundamentum.derive.weighing.beneath_stated import stated_beneath
from fundamentum.derive.weighing.database_versions import versions_stated, with_versions
from fundamentum.derive.weighing.evidence import Evidence
from fundamentum.derive.weighing.machine import machine_needs, short_tags
from fundamentum.derive.weighing.surroundings import surroundings, with_driver
from fundamentum.derive.weighing.wishes_together import wished


def around_php(
    tree: Tree,
    evidence: Evidence,
    each: Each,
    files: Sequence[SourceFile],
    is_script: Callable[[str], bool],
    said: Said,
    needed: list[Entry],
    left_out: Sequence[Entry],
) -> Iterator[Entry]:
    """What is ``needed`` of extensions, with the versions beneath them, and everything else.

    ``said``: what documents say, which counts where nothing else speaks; ``left_out``: extensions that are no need.
    """
    required = {name for entry in needed if entry.level == "required" for name in entry.names}
    listed = list(stated_surroundings(Path(tree.root), tree.base))
    own = _first_of_each(
        [
            *short_tags(each, files),
            *wished(tree, evidence, each, is_script),
            *(entry for entry in listed if entry.kind != "database"),
        ]
    )
    around = list(surroundings(needed, left_out, own))
    asked_modules = {entry.names for entry in around if entry.kind == "web_module"}
    needs = [
        *with_demands(needed, [*evidence.manifest.demands, *stated_beneath(evidence, required)]),
        *_loaders(evidence, {entry.names[0].lower() for entry in needed if entry.kind == "loader"}),
        *around,
        *machine_needs(each, files),
        *(entry for entry in web_modules(tree.root, tree.others) if entry.names not in asked_modules),
    ]
    said.others = [
        *(entry for entry in listed if entry.kind == "database"),
        *said.others,
        *scheduled_in_source(each, files),
        *packaged_around(tree.root, tree.base),
        *container_services(tree.root, tree.base),
    ]
    scripts = {file.path for file in files if file.part != "bundled"}
    told = with_driver(beside_documents(needs, said, scripts))
    yield from with_versions(told, versions_stated(each, files, said.others))


def _first_of_each(entries: Iterable[Entry]) -> list[Entry]:
    """The first entry for each need: what the source tells goes before what a list states."""
    first: dict[tuple[str, tuple[str, ...]], Entry] = {}
    for entry in entries:
        first.setdefault((entry.kind, entry.names), entry)
    return list(first.values())


def _loaders(evidence: Evidence, asked: set[str]) -> Iterable[Entry]:
    """The loaders that encoded files name, but those that the program itself has ``asked`` for."""
    loaders: dict[str, list[str]] = defaultdict(list)
    for path, facts in evidence.facts.items():
        if facts.loader and facts.loader.lower() not in asked:
            loaders[facts.loader].append(path)
    for name, paths in sorted(loaders.items()):
        needed = [path for path in paths if evidence.files[path].part == "own"]
        rule = "one encoded file asks for it" if len(paths) == 1 else f"{len(paths)} encoded files ask for it"
        rule += "" if needed else ", in a part that is chosen"
        places = tuple(Place(path, 1, "an encoded file") for path in sorted(needed or paths)[:12])
        yield Entry("loader", (name,), "required" if needed else "recommended", "", rule, places, len(paths))
