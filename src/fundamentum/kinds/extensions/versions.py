"""The version of an extension, and what follows where it is not one of those that will do."""

from msgspec.structs import replace

from fundamentum.catalog import inside
from fundamentum.catalog.libraries import tables
from fundamentum.kinds.base import Context
from fundamentum.kinds.extensions.state import Standing
from fundamentum.model.findings import AGAIN
from fundamentum.model.php import Module
from fundamentum.model.versions import VersionRange
from fundamentum.platforms.offers import upstream


def of_version(where: Standing, versions: VersionRange, context: Context) -> Standing:
    """The standing, as it is for an application that accepts these versions only."""
    if not versions.alternatives or where.state in ("other-branch", "unobtainable", None):
        return where
    offered = _offered(where.name, context)
    if where.state == "installable":
        if offered and not versions.accepts(offered):
            return _none_that_fits(where, versions, f"{where.found}; {where.package} has {offered}")
        return where
    version = version_of(where.name, context)
    if version is None:
        advice = f"ask it: php{context.target.runtime.branch} -r 'echo phpversion(\"{where.name}\");'"
        asked = context.survey.asked
        looked = asked is not None and where.name in asked.modules
        advice = advice if looked or not context.offers.platform.packaged else AGAIN
        actual = f"{where.found}, in a version that is not known"
        return replace(where, state=None, found=actual, remedy=f"{advice}; wanted is {versions}", known=False)
    if versions.accepts(version):
        return replace(where, found=f"{where.found} {version}" if where.state == "active" else where.found)
    actual = f"{version}, {where.found}"
    if offered and versions.accepts(offered) and (supplier := _supplier(where.name, context)):
        remedy = f"upgrade {supplier} to {offered}, with everything else there is to upgrade"
        return replace(where, state="misfit", found=actual, remedy=remedy, package=None)
    return _none_that_fits(where, versions, actual)


def _none_that_fits(where: Standing, versions: VersionRange, actual: str) -> Standing:
    remedy = f"no repository here carries {where.name} {versions}: add one that does, or a build of your own"
    return replace(where, state="unobtainable", found=actual, remedy=remedy, package=None)


def version_of(name: str, context: Context) -> str | None:
    """The version of an extension that is there: PHP's own word, its file's, that of PHP, or that of its package."""
    runtime = context.target.runtime
    branch = context.survey.branch_of(runtime)
    module = next((module for module in (branch.modules if branch else ()) if module.name == name), None)
    told = runtime.told.get(f"extension:{name}") or (module.version if module else "")
    if told:
        return upstream(told.removeprefix("mysqlnd "))
    if name in tables().own_versions:
        return tables().own_versions[name].get(runtime.branch)
    of_php = runtime.version if inside(name, runtime.branch, runtime.sapi, packaged=not runtime.home) else None
    return of_php or _of_package(name, module, context)


def _of_package(name: str, module: Module | None, context: Context) -> str | None:
    package = (module.package if module else None) or _supplier(name, context)
    version = next(
        (installed.version for installed in context.survey.installed or () if installed.name == package), None
    )
    return upstream(version) or None if version else None


def _supplier(name: str, context: Context) -> str | None:
    runtime = context.target.runtime
    offer = context.offers.supplier(name, runtime.branch, runtime.home)
    return offer.name if offer else None


def _offered(name: str, context: Context) -> str | None:
    """The version that a package on offer would bring; None: not known."""
    runtime = context.target.runtime
    offer = context.offers.supplier(name, runtime.branch, runtime.home)
    if name in tables().own_versions:
        return tables().own_versions[name].get(runtime.branch)
    return upstream(offer.version) or None if offer else None
