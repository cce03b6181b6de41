"""A way of running PHP with one more extension loaded."""

from collections.abc import Callable

from msgspec.structs import replace

from fundamentum.catalog import directives_of, extension_files, facts, required_by
from fundamentum.model.origin import Origin
from fundamentum.model.php import Loaded, Runtime, Setting, too_early
from fundamentum.model.survey import Survey


def in_branch(survey: Survey, branch: str, change: Callable[[Runtime], Runtime]) -> Survey:
    """The server with every way of running a branch changed."""
    changed = tuple(change(runtime) if runtime.branch == branch else runtime for runtime in survey.runtimes)
    return replace(survey, runtimes=changed)


def loading(runtime: Runtime, extension: str) -> Runtime:
    """The runtime with one more extension, and with the directives that come with it."""
    known = facts(runtime.branch)
    entry = extension_files(runtime.branch).get(extension)
    others = tuple(loaded for loaded in runtime.extensions if loaded.name != extension)
    new = Loaded(extension, entry.shown if entry else extension, Origin(f"{runtime.scan_dir}/20-{extension}.ini", 1))
    settings = dict(runtime.settings)
    for name in directives_of(runtime.branch).get(extension, ()):
        default = known.default(name, runtime.sapi)
        if name not in settings and default is not None:
            settings[name] = Setting(default)
    return replace(runtime, settings=settings, extensions=_settled((*others, new), runtime.branch))


def _settled(loaded: tuple[Loaded, ...], branch: str) -> tuple[Loaded, ...]:
    """Extensions that waited for another one load once that does; those that lack another do not."""
    for _ in range(len(loaded)):
        working = {extension.name for extension in loaded if extension.fault is None}
        settled = tuple(_depending(extension, required_by(extension.name, branch) - working) for extension in loaded)
        if settled == loaded:
            break
        loaded = settled
    return loaded


def _depending(extension: Loaded, missing: frozenset[str]) -> Loaded:
    if missing and extension.fault is None:
        return replace(extension, fault=too_early(missing))
    if not missing and extension.fault and extension.fault.kind == "too-early":
        return replace(extension, fault=None)
    return extension
