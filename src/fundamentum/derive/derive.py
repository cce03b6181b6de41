"""From an application's tree to its needs.

A quick look at every file tells which have to be parsed; those are parsed once.
"""

from pathlib import Path

from fundamentum.derive.application.libraries import names_of_libraries
from fundamentum.derive.application.listing import Listing, application_in
from fundamentum.derive.application.missing_parts import several
from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.application.walk import tree_of
from fundamentum.derive.beside.manifest import read_manifests
from fundamentum.derive.beside.manifest_tables import under_vendor
from fundamentum.derive.beside.stated import Manifest, lowest_stated
from fundamentum.derive.php_source.syntax import Rules, rules_after
from fundamentum.derive.reading.scan import Progress, Scan
from fundamentum.derive.result import Derived
from fundamentum.entries import entry
from fundamentum.errors import InputError, SeveralApplications
from fundamentum.model.safe_text import scrubbed
from fundamentum.untrusted.budget import Budget

PATIENCE = 20.0
"""Seconds for one application, after its files are listed."""


def silent(what: str, done: int, total: int) -> None:
    """Progress for nobody."""


def derive(root: Path, progress: Progress = silent, *, everything: bool = False, patience: float = PATIENCE) -> Derived:
    """The needs of the application in a directory.

    ``everything``: parse every file, be it one that cannot change the answer; that takes several times as long.
    ``patience``: the seconds it may take, after its files are listed; what is left then is said in a remark.
    """
    if not root.is_dir():
        raise InputError(str(root), "is no directory; name the directory of an application")
    return derive_listed(Listing(application_in(str(root))), progress, everything=everything, patience=patience)


def derive_listed(
    listing: Listing, progress: Progress = silent, *, everything: bool = False, patience: float = PATIENCE
) -> Derived:
    """The needs of an application whose files are listed; the rest as of ``derive``."""
    budget = Budget(seconds=patience)
    tree = tree_of(listing)
    if applications := several(tree):
        raise SeveralApplications(tree.root, applications)
    manifest = read_manifests(Path(tree.root), tree.others, tree.base)
    files = [
        file
        for file in tree.sources
        if file.part != "aside"
        and not any(file.path.startswith(aside + "/") for aside in manifest.development)
        and not _speaks_for_itself(file, manifest)
    ]
    if not files and not manifest.statements and not manifest.php:
        raise InputError(tree.root, "holds no PHP source and no manifest; name the directory of a PHP application")
    libraries = names_of_libraries(files)
    scan = Scan(tree.root, files, libraries, Rules(rules_after(lowest_stated(manifest))), budget)
    with scan.workers:
        # In the background, the scan goes on.
        # Names of files and words of their code are the application's own, and may be anything.
        conclude = entry("fundamentum.derive.weighing", "conclude").conclude
        derived: Derived = conclude(tree, manifest, libraries, scan, progress, budget, everything=everything)
        return scrubbed(derived)


def _speaks_for_itself(file: SourceFile, manifest: Manifest) -> bool:
    """A library of a package manager states its needs in its own manifest, and is believed."""
    if file.part != "bundled" or not under_vendor(file.library):
        return False
    return file.library in manifest.stated or any(
        package in manifest.stated
        for package in ("/".join(file.library.split("/")[-2:]), file.library.rpartition("/")[2])
    )
