"""The state of an extension or loader in one runtime, the remedy that follows from it, and the changes it takes."""

from typing import Final

import msgspec

from fundamentum.catalog import api_number, canonical, extension_gone, inside, instead_of
from fundamentum.kinds.base import Context
from fundamentum.model.findings import State, Target
from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.php import Answer, Branch, Fault, Loaded, Module
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform
from fundamentum.platforms.base import Platform
from fundamentum.platforms.offers import Offers

ORDER: Final[tuple[State, ...]] = (
    "active",
    "awaiting-restart",
    "switched-off",
    "installable",
    "misfit",
    "other-branch",
    "unobtainable",
)
"""Which alternative to take where any one is enough: the one with the least to do."""


class Standing(msgspec.Struct, frozen=True):
    """Where one extension stands.  ``state`` None: it cannot be told."""

    name: str
    state: State | None
    found: str
    remedy: str | None = None
    origin: Origin | None = None
    package: str | None = None
    remark: str | None = None
    fault: Fault | None = None
    known: bool = True
    """False: a file that could not be read may load it."""


def standing(name: str, context: Context, loader: str | None = None) -> Standing:
    """Follow the states from good to bad and stop at the first that is so."""
    survey, target, offers = context.survey, context.target, context.offers
    runtime = target.runtime
    loaded = [extension for extension in runtime.extensions if extension.name == name]
    if runtime.answer and (heard := _heard(name, loaded, target, runtime.answer)):
        return heard
    if working := next((extension for extension in loaded if extension.fault is None), None):
        twice = next((f"{extension.origin}: {extension.fault.words}" for extension in loaded if extension.fault), None)
        return _working(name, working, target, twice)
    if loader is None and inside(name, runtime.branch, runtime.sapi, packaged=not runtime.home):
        return Standing(name, "active", "part of PHP itself", origin=BUILT_IN)
    branch = survey.branch_of(runtime)
    modules = [module for module in (branch.modules if branch else ()) if module.name == name]
    offer = offers.supplier(name, runtime.branch, runtime.home)
    if loaded and loaded[0].fault:
        return _misfit(name, loaded[0], offer.name if offer else None, branch, target, offers.platform)
    if runtime.unread:
        actual = f"not seen to be loaded, but {runtime.unread[0]} could not be read"
        return Standing(name, None, actual, "survey again as a user who may read it", known=False)
    if fitting := next((module for module in modules if module.misfit is None), None):
        return _switched_off(name, fitting, target, offers.platform)
    if modules:
        return Standing(
            name,
            "misfit",
            f"{modules[0].path} {modules[0].misfit}",
            _right_build(name, branch, offer.name if offer else None, target, offers.platform),
            package=offer.name if offer else None,
        )
    if offer:
        actual = "not installed" if target.present else "not installed yet"
        return Standing(name, "installable", actual, f"install {offer.name} ({offer.source})", package=offer.name)
    return _not_here(name, survey, target, offers, loader)


def _heard(name: str, loaded: list[Loaded], target: Target, answer: Answer) -> Standing | None:
    """What the running pool itself said wins over what the files say; None where the two agree that it is missing."""
    runtime = target.runtime
    working = next((extension for extension in loaded if extension.fault is None), None)
    if any(canonical(extension) == name for extension in answer.extensions):
        remark = None if working else "loaded now, but no longer by its configuration: gone after the next restart"
        actual = "loaded, says the running pool"
        return Standing(name, "active", actual, origin=working.origin if working else None, remark=remark)
    if working:
        actual = f"configured, but the running {runtime.service or runtime.sapi} says it has not loaded it"
        return Standing(name, "awaiting-restart", actual, _restart(target), working.origin)
    return None


def _restart(target: Target) -> str:
    return f"restart {target.runtime.service or 'the program that runs this PHP'}"


def _working(name: str, loaded: Loaded, target: Target, twice: str | None) -> Standing:
    runtime = target.runtime
    changed = {loaded.path, loaded.origin.set_in} & set(runtime.stale)
    if changed:
        actual = f"configured, but {runtime.service or runtime.sapi} started before this was last changed"
        return Standing(name, "awaiting-restart", actual, _restart(target), loaded.origin)
    actual = "part of PHP itself" if loaded.origin.built_in else "loaded"
    return Standing(name, "active", actual, origin=loaded.origin, remark=twice)


def _switched_off(name: str, module: Module, target: Target, of: Platform) -> Standing:
    runtime = target.runtime
    file = module.path.rpartition("/")[2].removesuffix(".so").removesuffix(".dll").removeprefix("php_")
    line = f"{'zend_extension' if module.zend else 'extension'}={file}"
    if module.switch and of.switches_by_name:
        switch = module.switch.rpartition("/")[2].removesuffix(".ini")
        remedy = " ".join(of.switch_on(runtime.branch, runtime.sapi, switch))
    elif runtime.scan_dir:
        remedy = f"add {line} to a file in {runtime.scan_dir}"
    elif runtime.ini_file:
        remedy = f"add {line} to {runtime.ini_file}"
    else:
        remedy = f"add {line} to a php.ini, which this PHP does not have yet"
    return Standing(
        name,
        "switched-off",
        f"{module.path} is there, but not loaded by {runtime.sapi}",
        remedy,
        package=module.package,
    )


def _misfit(
    name: str, loaded: Loaded, package: str | None, branch: Branch | None, target: Target, of: Platform
) -> Standing:
    fault = loaded.fault or Fault("unfit", "")
    match fault.kind:
        case "too-early":
            remedy = f"switch on {' and '.join(fault.requires)}, so that it is loaded first"
        case "too-late":
            remedy = f"move the line {loaded.origin} in front of every other zend_extension line"
        case "twice" | "wrong-line":
            remedy = f"correct the line {loaded.origin}"
        case "absent" if package:
            remedy = f"install {package}"
        case "absent" if target.runtime.extension_dir_line and _has(name, branch):
            remedy = f"set {target.runtime.extension_dir_line} in {target.runtime.main_ini}"
        case "absent":
            remedy = f"remove the line {loaded.origin}, or put the right file in place"
        case _:
            remedy = _right_build(name, branch, package, target, of)
    return Standing(name, "misfit", fault.words, remedy, loaded.origin, package, fault=fault)


def _has(name: str, branch: Branch | None) -> bool:
    """Whether a fitting file of an extension lies where this PHP has them."""
    return any(module.name == name and module.misfit is None for module in (branch.modules if branch else ()))


def _right_build(name: str, branch: Branch | None, package: str | None, target: Target, of: Platform) -> str:
    if package:
        return f"let {package} put the right file in place: install it, or install it again"
    if branch is None:
        return "put the right file in place"
    archive = of.extension_from(name, branch, target.runtime.version or f"{branch.branch}.*")
    return archive or f"put the build for {wanted_build(branch)} into {branch.extension_dir}"


def wanted_build(branch: Branch) -> str:
    """What an extension file for this PHP must be built for, in words."""
    parts = [f"PHP {branch.branch}", "thread-safe" if branch.thread_safe else "not thread-safe"]
    parts += [branch.compiler, branch.processor, "debug" if branch.debug else ""]
    return ", ".join(part for part in parts if part)


def _get_loader(survey: Survey, target: Target) -> str:
    """The exact build, where it goes, and the line that loads it, in front of all others."""
    runtime = target.runtime
    branch = survey.branch_of(runtime)
    of = platform(survey.system.family)
    folder = branch.extension_dir if branch else of.extension_dir(api_number(runtime.branch) or "")
    file = f"{runtime.scan_dir}/00-loader.ini" if runtime.scan_dir else runtime.ini_file or "its php.ini"
    return (
        f"get the build for {_of_branch(survey, target)} from its maker, put it into {folder}, load it with "
        f"zend_extension= in {file}, before every other, restart {runtime.service or 'PHP'}, and check again"
    )


def _of_branch(survey: Survey, target: Target) -> str:
    branch = survey.branch_of(target.runtime)
    return wanted_build(branch) if branch else f"PHP {target.runtime.branch}, not thread-safe"


def _not_here(name: str, survey: Survey, target: Target, offers: Offers, loader: str | None) -> Standing:
    branch, of = target.runtime.branch, offers.platform
    if shut := offers.shut_out(name, branch):
        why = f"{shut.name} ({shut.source}) would bring it, but {shut.shut_out}"
        stream = " ".join(of.switch_stream(shut.stream)) if shut.stream else "change that configuration"
        return Standing(name, "other-branch", why, stream)
    if of.unseen:
        return Standing(name, None, "not loaded", of.unseen)
    if others := offers.branches_with(name):
        return Standing(
            name,
            "other-branch",
            f"not offered for PHP {branch}",
            f"offered for PHP {', '.join(others)}: run the application on that branch, or another repository",
        )
    if not offers.complete and not of.packaged:
        php = survey.branch_of(target.runtime)
        remedy = of.extension_from(name, php, target.runtime.version or f"{branch}.*") if php and not loader else ""
        remedy = (
            remedy or f"put the build for {_of_branch(survey, target)} in place; no package database here tells more"
        )
        return Standing(name, None, "no file of it here", remedy)
    if not offers.complete:
        what = "only read in part" if offers.known else "not known"
        return Standing(
            name,
            None,
            "not installed",
            f"what could be installed is {what}: run {of.refresh} on the server and survey it again",
        )
    if loader:
        return Standing(
            name,
            "unobtainable",
            "not installed",
            _get_loader(survey, target),
        )
    if gone := extension_gone(name, branch):
        instead = instead_of(name)
        hint = f"; {instead} took its place" if instead else ""
        return Standing(
            name,
            "unobtainable",
            f"not part of PHP since {gone}",
            f"no repository here carries it for PHP {branch}{hint}",
        )
    return Standing(
        name,
        "unobtainable",
        "not installed",
        "no repository here carries it; one with more PHP extensions, or a build of your own, would",
    )
