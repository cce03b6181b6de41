"""The changes that make an extension active in a runtime."""

import posixpath
from collections.abc import Iterator
from typing import Final

from fundamentum.changes.base import Change
from fundamentum.changes.extension_directory import SetExtensionDirectory
from fundamentum.changes.extension_line import LoadByLine
from fundamentum.changes.extension_switch import EnableExtension
from fundamentum.changes.packages import Install
from fundamentum.changes.service import Restart
from fundamentum.kinds.base import Context
from fundamentum.kinds.extensions.state import Standing, standing
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.php import Module, Runtime

_FILE_NAME: Final = lazy_regex(r"[A-Za-z0-9_][A-Za-z0-9_.-]*")


def for_extension(where: Standing, context: Context) -> Iterator[Change]:
    """What makes an extension active; nothing where nothing here can."""
    runtime = context.target.runtime
    module = _module(where.name, context)
    if where.state == "installable" and where.package:
        yield Install(where.package)
    elif where.state == "switched-off" and module and _by_name(module, context):
        switch = posixpath.basename(module.switch or "").removesuffix(".ini")
        yield EnableExtension(module.name, switch, runtime.branch, runtime.sapi)
    elif where.state == "switched-off" and module and (file := _line_file(module, runtime)):
        line = f"{'zend_extension' if module.zend else 'extension'}={_stem(module)}"
        yield LoadByLine(module.name, line, file, runtime.label)
    elif where.state == "misfit":
        yield from _for_misfit(where, context)
    elif where.state == "awaiting-restart" and runtime.service:
        yield Restart(runtime.service)


def _for_misfit(where: Standing, context: Context) -> Iterator[Change]:
    kind = where.fault.kind if where.fault else "unfit"
    if where.fault and kind == "too-early":
        for name in where.fault.requires:
            yield from for_extension(standing(name, context), context)
    elif kind == "absent" and (line := context.target.runtime.extension_dir_line) and _module(where.name, context):
        runtime = context.target.runtime
        yield SetExtensionDirectory(line, runtime.main_ini, runtime.label)
    elif where.package and kind in ("absent", "unfit"):
        installed = any(package.name == where.package for package in context.survey.installed or ())
        yield Install(where.package, again=installed)


def _module(name: str, context: Context) -> Module | None:
    branch = context.survey.branch_of(context.target.runtime)
    modules = branch.modules if branch else ()
    return next((module for module in modules if module.name == name and module.misfit is None), None)


def _by_name(module: Module, context: Context) -> bool:
    """Whether it is switched on by its name, in a directory that the runtime reads."""
    return bool(module.switch) and context.offers.platform.switches_by_name and context.target.runtime.packaged


def _stem(module: Module) -> str:
    return posixpath.basename(module.path).removesuffix(".so").removesuffix(".dll").removeprefix("php_")


def _line_file(module: Module, runtime: Runtime) -> str | None:
    """Where a line that loads an extension goes: a file of its own, or the php.ini, made if it is not there."""
    stem = posixpath.basename(module.path).rpartition(".")[0].removeprefix("php_")
    if not _FILE_NAME.fullmatch(stem) or not runtime.editable:
        return None
    if runtime.scan_dir:
        return f"{runtime.scan_dir}/{'10' if module.zend else '30'}-{stem}.ini"
    return runtime.main_ini if runtime.ini_file or runtime.home else None
