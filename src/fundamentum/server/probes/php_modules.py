"""Extension files on disk, and which of them a runtime really gets to load."""

import posixpath
import re
from collections.abc import Mapping
from typing import Final

from fundamentum.catalog import Facts, canonical, required_by
from fundamentum.server import binary
from fundamentum.server.hosts import Host, HostError, text_of
from fundamentum.server.ini import parse
from fundamentum.server.model import PLAIN, Branch, Fault, Loaded, Module, Remark, too_early
from fundamentum.server.probes.php_config import Configuration, Line

MODS: Final = "/etc/php/{branch}/mods-available"


def available(
    host: Host, branch: str, api: str, directory: str, facts: Facts, owners: Mapping[str, str], architecture: str
) -> tuple[Branch, list[Remark]]:
    """Every extension file in the branch's directory.

    A file that a package put where it belongs is taken as fitting, on dpkg's word; any other is opened.
    """
    remarks: list[Remark] = []
    switches = _switches(host, branch)
    found = []
    try:
        names = [name for name in host.names(directory) if name.endswith(".so")]
    except HostError as error:
        return Branch(branch, api, directory), [Remark("extension files", str(error))]
    for name in names:
        path = posixpath.join(directory, name)
        found.append(describe(host, path, api, facts, owners.get(path), switches, architecture))
    return Branch(branch, api, directory, tuple(found)), remarks


def describe(
    host: Host, path: str, api: str, facts: Facts, package: str | None, switches: Mapping[str, str], architecture: str
) -> Module:
    """One extension file: its name as PHP lists it, its kind, and whether it can be loaded at all."""
    stem = posixpath.basename(path).removesuffix(".so")
    known = facts.extensions.get(stem)
    switch = switches.get(stem) or switches.get(path)
    if known and package:
        return Module(canonical(known.shown), known.shown, path, known.zend, package, switch)
    try:
        identity = binary.examine(host.read(path, binary.MAX_BINARY) or b"")
    except (HostError, binary.NotAnExtension) as error:
        shown = known.shown if known else stem
        return Module(canonical(shown), shown, path, known.zend if known else False, package, switch, str(error))
    shown = identity.name or (known.shown if known else stem)
    return Module(
        canonical(shown), shown, path, identity.zend, package, switch, binary.misfit(identity, api, architecture)
    )


def _switches(host: Host, branch: str) -> dict[str, str]:
    """File stem (or path) of an extension → the ini file under ``mods-available`` that loads it."""
    folder = MODS.format(branch=branch)
    found: dict[str, str] = {}
    try:
        names = host.names(folder)
    except HostError:
        return found
    for name in names:
        if not re.fullmatch(PLAIN, name) or not name.endswith(".ini"):
            continue
        try:
            entries = parse(text_of(host, posixpath.join(folder, name)) or "", {}).entries
        except HostError:
            continue
        for entry in entries:
            if entry.name in ("extension", "zend_extension") and entry.value:
                value = entry.value if "/" in entry.value else entry.value.removesuffix(".so")
                found.setdefault(value, posixpath.join(folder, name))
    return found


def loaded(
    host: Host, branch: Branch, facts: Facts, sapi: str, configuration: Configuration, architecture: str
) -> tuple[Loaded, ...]:
    """What a runtime has: what is compiled in, then Zend extensions, then extensions, each in the order of the files.

    Source: ``php_ini_register_extensions`` and ``php_load_extension`` in PHP.
    """
    result = [Loaded(canonical(shown), shown, "built-in") for shown in facts.static.get(sapi, ())]
    present = {one.name for one in result}
    by_path = {module.path: module for module in branch.modules}
    directory = next(
        (line.value for line in reversed(configuration.lines) if line.name == "extension_dir" and line.value),
        branch.extension_dir,
    )
    for kind in ("zend_extension", "extension"):
        for line in configuration.loads(kind):
            path = _path(host, line, directory)
            module = by_path.get(path) or _elsewhere(host, path, branch, facts, architecture)
            fault = _fault(host, module, path, kind, directory, present, branch.branch)
            result.append(Loaded(module.name, module.shown, line.origin, path, fault))
            if fault is None:
                present.add(module.name)
    return tuple(result)


def _path(host: Host, line: Line, directory: str) -> str:
    value = line.value or ""
    if "/" in value:
        return value
    plain = posixpath.join(directory, value)
    return plain if value.endswith(".so") or host.stat(plain) else f"{plain}.so"


def _elsewhere(host: Host, path: str, branch: Branch, facts: Facts, architecture: str) -> Module:
    resolved = host.stat(path)
    if resolved is None:
        stem = posixpath.basename(path).removesuffix(".so")
        shown = facts.extensions[stem].shown if stem in facts.extensions else stem
        return Module(canonical(shown), shown, path)
    return describe(host, path, branch.api, facts, None, {}, architecture)


def _fault(
    host: Host, module: Module, path: str, kind: str, directory: str, present: set[str], branch: str
) -> Fault | None:
    if not host.stat(path):
        where = "" if path.startswith(directory) else f"; extensions of this PHP are in {directory}"
        return Fault("absent", f"the file {path} does not exist{where}")
    if module.misfit:
        return Fault("unfit", f"{path} {module.misfit}")
    if module.name in present:
        return Fault("twice", "loaded twice: an earlier line loads it already")
    if module.zend and kind == "extension":
        return Fault("wrong-line", "a Zend extension: it is loaded with zend_extension=, not extension=")
    if not module.zend and kind == "zend_extension":
        return Fault("wrong-line", "not a Zend extension: it is loaded with extension=, not zend_extension=")
    missing = required_by(module.name, branch) - present
    return too_early(missing) if missing else None
