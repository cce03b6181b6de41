"""Extensions that must not be loaded: ``[extensions] absent``."""

import posixpath

from msgspec.structs import replace

from fundamentum.catalog import canonical
from fundamentum.changes.extension_off import DisableExtension
from fundamentum.kinds.base import Context
from fundamentum.kinds.extensions.names import Way
from fundamentum.model.findings import Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value
from fundamentum.model.php import Loaded
from fundamentum.model.safe_text import is_path


class AbsentNeed(Value, frozen=True):
    """One extension beside which the application does not run."""

    name: str
    way: Way = ""
    level: Level = "required"

    @property
    def key(self) -> NeedId:
        return NeedId(f"absent:{self.name}")


def judged_absent(need: AbsentNeed, context: Context) -> Finding:
    """Whether the judged runtime is without it."""
    runtime = context.target.runtime
    base = Finding(need=need.key, level=need.level, verdict="met", wanted="not loaded", found="not loaded")
    loaded = next(
        (extension for extension in runtime.extensions if extension.name == need.name and extension.fault is None), None
    )
    running = runtime.answer and any(canonical(name) == need.name for name in runtime.answer.extensions)
    if loaded is None and running:
        service = runtime.service or "the program that runs this PHP"
        actual = "loaded by the running pool, and no longer by its configuration"
        return replace(base, verdict="unmet", state="awaiting-restart", found=actual, remedy=f"restart {service}")
    if loaded is None and runtime.unread:
        actual = f"not seen to be loaded, but {runtime.unread[0]} could not be read"
        return replace(base, verdict="unknown", found=actual, remedy="survey again as a user who may read it")
    if loaded is None:
        return base
    if loaded.origin.built_in:
        remedy = "use another build of PHP: what is part of the program cannot be switched off"
        return replace(base, verdict="unmet", state="unobtainable", found="part of PHP itself", remedy=remedy)
    return _switched_off(replace(base, verdict="unmet", found="loaded", origin=loaded.origin), loaded, context)


def _switched_off(finding: Finding, loaded: Loaded, context: Context) -> Finding:
    """With the change that switches it off, unless that would take it from somebody else's site."""
    runtime, of = context.target.runtime, context.offers.platform
    switch = posixpath.basename(loaded.origin.set_in).removesuffix(".ini").partition("-")[2]
    change = DisableExtension(loaded.name, switch, runtime.branch, runtime.sapi)
    inside = posixpath.dirname(loaded.origin.set_in) == runtime.scan_dir
    by_name = of.switches_by_name and runtime.packaged and inside and bool(switch)
    words = (
        f"take the line {loaded.origin} out" if is_path(loaded.origin.file) else f"take out what loads {loaded.name}"
    )
    words = change.words(context.offers) if by_name else words
    reading = {listed.label for listed in context.survey.runtimes if change.concerns(listed)}
    mine = {context.site.name, context.target.site} if context.site else {context.target.site}
    others = sorted({site.name for site in context.survey.sites if site.runtime in reading} - mine)
    if others:
        shared = f"{', '.join(others[:5])}{' and others' if len(others) > 5 else ''} would lose it too"
        return replace(finding, remedy=f"decide: {words}; {shared}")
    return replace(finding, remedy=words, demands=(change,) if by_name else ())
