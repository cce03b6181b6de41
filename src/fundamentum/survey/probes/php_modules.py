"""Extension files on disk, and which of them a runtime really gets to load."""

import posixpath
import re
from collections.abc import Iterable, Mapping
from typing import Final

import msgspec

from fundamentum.catalog import Facts, canonical, required_by
from fundamentum.catalog.libraries import tables
from fundamentum.hosts.base import Host, HostError, listed, text_of
from fundamentum.hosts.windows_directory import windows_path
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.installation import Build, Installation
from fundamentum.model.origin import BUILT_IN
from fundamentum.model.php import Branch, Fault, Loaded, Module, too_early
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_plain
from fundamentum.model.windows_words import shown_path
from fundamentum.php_files import php_binaries
from fundamentum.php_files.ini import parse
from fundamentum.survey.probes.php_config import Configuration

_FILE: Final = {"Linux": lazy_regex(r"(.+)\.so"), "Windows": lazy_regex(r"(?:php_)?(.+)\.dll", re.I)}
"""The name of an extension file and, in it, that of the extension.  Source: ``php_load_extension`` in PHP."""


class Shelf(msgspec.Struct, frozen=True):
    """Where the extension files of one PHP lie, what they must be built for, and who put them there."""

    branch: str
    directory: str
    build: Build
    facts: Facts
    owners: Mapping[str, str]
    switches: Mapping[str, str]
    asked: frozenset[str] = frozenset()
    """The extensions whose files are examined, also where a glance would tell what they are."""

    def stem(self, path: str) -> str:
        """The extension's name as its file has it."""
        match = _FILE[self.build.system].fullmatch(posixpath.basename(path))
        return match[1].lower() if match else posixpath.basename(path)


def shelf(
    host: Host, installation: Installation, facts: Facts, owners: Mapping[str, str], asked: Iterable[str] = ()
) -> Shelf:
    """The place of an installed PHP's extension files; ``asked``: those that are examined whatever they look like."""
    switches = _switches(host, installation.switches) if installation.switches else {}
    wanted = frozenset(asked)
    return Shelf(installation.branch, installation.extension_dir, installation.build, facts, owners, switches, wanted)


def available(host: Host, home: str, place: Shelf) -> tuple[Branch, list[Remark]]:
    """Every extension file in the branch's directory."""
    build = place.build
    branch = Branch(
        place.branch,
        build.api,
        place.directory,
        home=home,
        thread_safe=build.thread_safe,
        debug=build.debug,
        processor=build.processor,
        system=build.system,
        compiler=build.compiler,
    )
    try:
        names = [name for name in host.names(place.directory) if _FILE[build.system].fullmatch(name)]
    except HostError as error:
        return branch, [Remark("extension files", str(error))]
    modules = [describe(host, posixpath.join(place.directory, name), place) for name in names]
    if build.system == "Windows":  # the libraries that extensions need may lie beside them
        modules = [module for module in modules if module.misfit != php_binaries.NO_IDENTITY]
    return msgspec.structs.replace(branch, modules=tuple(modules)), []


def describe(host: Host, path: str, place: Shelf) -> Module:
    """One extension file: its name as PHP lists it, its kind, and whether it can be loaded at all.

    A file that a package put where it belongs, and that carries the right build identity, is what its name says.
    """
    stem = place.stem(path)
    known = place.facts.extensions.get(stem)
    package = place.owners.get(path)
    switch = place.switches.get(stem) or place.switches.get(path)
    try:
        glance = known and canonical(known.shown) not in place.asked
        if known and glance and package and php_binaries.fits(host.view(path) or b"", place.build):
            return Module(canonical(known.shown), known.shown, path, known.zend, package, switch)
        data = host.read(path, php_binaries.MAX_BINARY) or b""
        identity = php_binaries.examine(data)
    except (HostError, php_binaries.NotAnExtension) as error:
        shown = known.shown if known else stem
        return Module(canonical(shown), shown, path, known.zend if known else False, package, switch, misfit=str(error))
    shown = identity.name or (known.shown if known else stem)
    return Module(
        canonical(shown),
        shown,
        path,
        identity.zend,
        package,
        switch,
        identity.version,
        php_binaries.linked(data),
        features_in(canonical(shown), data),
        php_binaries.misfit(identity, place.build),
        tuple(sorted(canonical(name) for name in identity.requires)),
        identity.first,
    )


def features_in(extension: str, data: bytes) -> tuple[str, ...] | None:
    """What an extension's file was built with, of what the catalogue knows a sign of; None: of none of it."""
    known = {name: feature.signs for name, feature in tables().features.get(extension, {}).items() if feature.signs}
    return tuple(name for name, signs in known.items() if any(sign.encode() in data for sign in signs)) or None


def _switches(host: Host, folder: str) -> dict[str, str]:
    """File stem (or path) of an extension → the ini file in the folder that loads it."""
    switches: dict[str, str] = {}
    try:
        names = host.names(folder)
    except HostError:
        return switches
    for name in names:
        if not is_plain(name) or not name.endswith(".ini"):
            continue
        try:
            entries = parse(text_of(host, posixpath.join(folder, name)) or "", {}).entries
        except HostError:
            continue
        for entry in entries:
            if entry.name in ("extension", "zend_extension") and entry.value:
                value = entry.value if "/" in entry.value else entry.value.removesuffix(".so")
                switches.setdefault(value, posixpath.join(folder, name))
    return switches


def loaded(
    host: Host, installation: Installation, branch: Branch, place: Shelf, configuration: Configuration
) -> tuple[Loaded, ...]:
    """What a runtime has: what is compiled in, then Zend extensions, then extensions, each in the order of the files.

    Source: ``php_ini_register_extensions`` and ``php_load_extension`` in PHP.
    """
    compiled_in = place.facts.static.get(installation.sapi, ()) if installation.inside is None else installation.inside
    result = [Loaded(canonical(shown), shown, BUILT_IN) for shown in compiled_in]
    present = {extension.name for extension in result}
    by_path = {module.path: module for module in branch.modules}
    directory = _directory(installation, place, configuration)
    zend: list[Module] = []
    requires: dict[str, tuple[str, ...]] = {}
    for kind in ("zend_extension", "extension"):
        for line in configuration.loads(kind):
            value = line.value or ""
            if kind == "zend_extension" and "/" in value:  # relative to the directory; others are to where PHP runs
                value = posixpath.normpath(posixpath.join(directory, value))
            path = _path(host, value, directory, installation, place)
            module = by_path.get(path) or _elsewhere(host, path, place)
            fault = _fault(host, module, path, kind, present, zend, place)
            result.append(Loaded(module.name, module.shown, line.origin, path, fault))
            if fault is None:
                present.add(module.name)
                zend += [module] if kind == "zend_extension" else []
                requires[module.name] = module.requires
    return tuple(_started(extension, set(requires.get(extension.name, ())) - present) for extension in result)


def _directory(installation: Installation, place: Shelf, configuration: Configuration) -> str:
    """The value of ``extension_dir``."""
    set_there = (line.value for line in reversed(configuration.lines) if line.name == "extension_dir" and line.value)
    return next(set_there, installation.built_in_dir or place.directory)


def directory_line(host: Host, installation: Installation, place: Shelf, configuration: Configuration) -> str:
    """The line without which extension files are not found; empty where they are, or no line tells where they lie.

    Relative to the program, where that lies beside the files: source: ``LoadLibrary`` in Microsoft's documentation.
    """
    if not host.windows:
        return ""
    folder = windows_path(host, _directory(installation, place, configuration), installation.ini_folder)
    if (host.resolve(folder) or folder).lower() == place.directory.lower():
        return ""
    in_directory = (
        posixpath.dirname(place.directory) == posixpath.dirname(installation.program) and installation.sapi != "apache2"
    )
    return f'extension_dir = "{posixpath.basename(place.directory) if in_directory else shown_path(place.directory)}"'


def _started(extension: Loaded, missing: set[str]) -> Loaded:
    """What a module says it requires may come after it, but has to come.  Source: ``zend_startup_module_ex``."""
    return (
        msgspec.structs.replace(extension, fault=too_early(missing))
        if missing and extension.fault is None
        else extension
    )


def _path(host: Host, value: str, directory: str, installation: Installation, place: Shelf) -> str:
    """The file a line means.  A bare name is completed, on Windows with ``php_`` in front."""
    if place.build.system == "Windows":
        program = installation.ini_folder if installation.sapi == "apache2" else posixpath.dirname(installation.program)
        return _on_windows(host, value, directory, program)
    if "/" in value:
        return value
    plain = posixpath.join(directory, value)
    return plain if value.endswith(".so") or host.stat(plain) else f"{plain}.so"


def _on_windows(host: Host, value: str, directory: str, program: str) -> str:
    """``program``: the directory of the program, where relative paths begin."""
    path = value if re.search(r"[\\/]", value) else f"{directory}/{value}"
    folder, _, name = path.replace("\\", "/").rpartition("/")
    folder = windows_path(host, folder, program)
    if not name.lower().endswith(".dll"):
        name = f"php_{name}.dll"
    actual = next((entry for entry in listed(host, folder) if entry.lower() == name.lower()), name)
    return posixpath.join(folder, actual)


def _elsewhere(host: Host, path: str, place: Shelf) -> Module:
    if host.stat(path) is None:
        stem = place.stem(path)
        shown = place.facts.extensions[stem].shown if stem in place.facts.extensions else stem
        return Module(canonical(shown), shown, path)
    return describe(host, path, place)


def _fault(
    host: Host, module: Module, path: str, kind: str, present: set[str], before: Iterable[Module], place: Shelf
) -> Fault | None:
    if not host.stat(path):
        where = "" if path.startswith(place.directory) else f"; extensions of this PHP are in {place.directory}"
        return Fault("absent", f"the file {path} does not exist{where}")
    if module.misfit:
        return Fault("unfit", f"{path} {module.misfit}")
    if module.name in present:
        return Fault("twice", "loaded twice: an earlier line loads it already")
    if module.zend and kind == "extension":
        return Fault("wrong-line", "a Zend extension: it is loaded with zend_extension=, not extension=")
    if not module.zend and kind == "zend_extension":
        return Fault("wrong-line", "not a Zend extension: it is loaded with extension=, not zend_extension=")
    missing = required_by(module.name, place.branch) - present
    if missing:
        return too_early(missing)
    earlier = [loaded.shown for loaded in before]
    if module.first and earlier:
        return Fault("too-late", f"has to be the first Zend extension, but {' and '.join(earlier)} comes before it")
    return None
