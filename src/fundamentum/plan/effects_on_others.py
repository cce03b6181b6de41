"""What a plan changes for sites that it was not made for: every site's effective values before and after, compared."""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from fundamentum.catalog.setting_line import in_a_word
from fundamentum.effective.site_configuration import for_site, parts
from fundamentum.model.findings import Target
from fundamentum.model.layers import Assignment
from fundamentum.model.php import Runtime
from fundamentum.model.survey import Site, Survey
from fundamentum.plan.made_plan import Effect

_LOADED = {True: "loaded", False: "not loaded"}


class _View(NamedTuple):
    """A runtime, and the same as a site meets it."""

    itself: Runtime
    met: Runtime


def effects(before: Survey, after: Survey, targets: Sequence[Target]) -> tuple[Effect, ...]:
    """Each value and each extension that another site, or a runtime without sites, has otherwise afterwards."""
    changed = {runtime.label: runtime for runtime in after.runtimes}
    harmed: dict[Effect, None] = {}
    for runtime in before.runtimes:
        then = changed.get(runtime.label)
        if then is None or (then is runtime and before.sites is after.sites):
            continue
        harmed |= dict.fromkeys(_left_behind(before.sites, after.sites, runtime))
        for name, now, later in _views(runtime, then, before, after, targets):
            harmed |= dict.fromkeys(_differences(name, now.met, later.met))
            harmed |= dict.fromkeys(_where_unknown(name, now, later))
    return tuple(harmed)


def _views(
    runtime: Runtime, then: Runtime, before: Survey, after: Survey, targets: Sequence[Target]
) -> Iterator[tuple[str, _View, _View]]:
    """Each other site of a runtime, with what it meets before and after; the runtime itself if it serves none."""
    served = [(old, new) for old, new in zip(before.sites, after.sites, strict=False) if old.runtime == runtime.label]
    mine = [target for target in targets if runtime.label in (target.runtime.label, target.beside)]
    if not served:
        if not mine:
            yield runtime.label, _View(runtime, runtime), _View(then, then)
        return
    olds = [old for old, _ in served]
    names = {_name(old) for old in olds}
    later = {listed.label: listed for listed in after.runtimes}
    for old, new in served:
        answering = later.get(new.runtime or "", then)  # the plan may have handed it to another
        for_it = (
            mine if answering is then else [target for target in targets if target.runtime.label == answering.label]
        )
        if any(_is_meant(target, old, names) for target in for_it):
            continue
        news = [site for site in after.sites if site.runtime == new.runtime]
        for below in parts(old):
            where = f"{_name(old)}{f' in {below}' if below else ''}"
            now, meets = for_site(runtime, old, olds, below), for_site(answering, new, news, below)
            yield where, _View(runtime, now), _View(answering, meets)


def _left_behind(before: Sequence[Site], after: Sequence[Site], runtime: Runtime) -> Iterator[Effect]:
    """What a site sends along stays with the process that answers, and may meet the next request of another site."""
    if runtime.sapi != "fpm":
        return
    served = [(old, new) for old, new in zip(before, after, strict=False) if old.runtime == runtime.label]
    for old, new in served:
        pairs = zip(_sent(old), _sent(new), strict=False)
        changed = [
            (assignment, then)
            for assignment, then in pairs
            if assignment.name == then.name and assignment.value != then.value
        ]
        for other, _ in served:
            for assignment, then in changed if other is not old else ():
                yield Effect(
                    _name(other),
                    assignment.name,
                    f"at times {in_a_word(assignment.name, assignment.value)}",
                    f"at times {in_a_word(then.name, then.value)}",
                )


def _sent(site: Site) -> list[Assignment]:
    return [
        assignment for layer in site.layers if layer.kind in ("request", "request-admin") for assignment in layer.values
    ]


def _name(site: Site) -> str:
    return f"{site.name} {site.part or ''}".strip()


def _is_meant(target: Target, site: Site, names: set[str]) -> bool:
    """Whether the plan is for this site: it was named, or it is the only one."""
    if target.site is None:
        return len(names) == 1
    return target.site in (site.name, *site.aliases, _name(site))


def _differences(site: str, now: Runtime, then: Runtime) -> Iterator[Effect]:
    for name, setting in now.settings.items():
        other = then.settings.get(name)
        if other is not None and other.value != setting.value:
            yield Effect(site, name, in_a_word(name, setting.value), in_a_word(name, other.value))
    loaded = ({e.name for e in now.extensions if not e.fault}, {e.name for e in then.extensions if not e.fault})
    for name in sorted(loaded[0] ^ loaded[1]):
        yield Effect(site, f"extension {name}", _LOADED[name in loaded[0]], _LOADED[name in loaded[1]])


def _where_unknown(site: str, now: _View, then: _View) -> Iterator[Effect]:
    """What the runtime itself has otherwise afterwards, where something unread may decide for the site, or may not."""
    for name, setting in now.met.settings.items():
        later, old, new = (
            settings.get(name) for settings in (then.met.settings, now.itself.settings, then.itself.settings)
        )
        if setting.value is None and later and later.value is None and old and new and old.value != new.value:
            yield Effect(site, name, f"perhaps {in_a_word(name, old.value)}", f"perhaps {in_a_word(name, new.value)}")
