"""The merge of a runtime's configuration with the layers of a site.

Source: ``zend_alter_ini_entry_ex`` and ``php_ini_activate_config`` in PHP, ``fpm_php.c``, ``mod_php``'s merge of
directory configurations; each rule asked of real servers with 7.4, 8.2 and 8.4 (``tests/real/test_laboratory.py``).

Two things decide whether a line counts: the class of the directive (some are the system's alone), and whether an
administrator's line came before it, which locks the directive.  What is sent with a request over FastCGI heeds neither.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from types import MappingProxyType

from msgspec.structs import replace

from fundamentum.catalog import START_ONLY, TAKING, Facts, facts
from fundamentum.model.layers import Assignment, Layer, Section
from fundamentum.model.origin import Origin, Overridden
from fundamentum.model.php import Answer, Runtime, Setting
from fundamentum.model.survey import Site, SiteAnswer

SAID = Origin("the running site")
"""The origin of what nothing but the site itself told."""
PER_DIRECTORY = 2
"""The bit of a directive's class that lets directories set it."""
MAX_LOST = 20


class _Merge:
    """Settings as they are while one layer after the other is applied."""

    def __init__(self, runtime: Runtime) -> None:
        self.known: Facts = facts(runtime.branch)
        self.settings = dict(runtime.settings)
        self.base = runtime.settings
        self.locked = {name for name, setting in runtime.settings.items() if setting.admin}

    def per_directory(self, name: str) -> bool:
        """Whether a directory may set a directive; one that nobody has looked at may be set anywhere."""
        directive = self.known.directives.get(name)
        return directive is None or bool(directive.access & PER_DIRECTORY)

    def put(
        self,
        assignment: Assignment,
        *,
        heeds: bool = True,
        locks: bool = False,
        together: Mapping[str, Setting] = MappingProxyType({}),
    ) -> None:
        """Apply one line.  ``heeds``: it counts only where its class and earlier locks let it.

        ``together``: the settings before the lines of which PHP takes the last one of each directive, all at once:
        where it refuses that, none of them counts.
        """
        before = self.settings.get(assignment.name)
        if before is None or assignment.name in START_ONLY:
            return
        if assignment.name in TAKING:
            if not heeds:  # sent over FastCGI; other places show it, and take nothing away
                self._take(assignment, before)
            return
        if heeds and not locks and (assignment.name in self.locked or not self.per_directory(assignment.name)):
            return
        if assignment.value is not None and self.known.refuses(assignment.name, assignment.value):
            if assignment.name in together:
                self.settings[assignment.name] = together[assignment.name]
            if locks:
                self.locked.add(assignment.name)
            return
        lost = () if before.origin.built_in else (Overridden(before.origin, before.value),)
        self.settings[assignment.name] = Setting(
            assignment.value, assignment.origin, (*lost, *before.overridden)[:MAX_LOST], set_by="site"
        )
        if locks:
            self.locked.add(assignment.name)

    def _take(self, assignment: Assignment, before: Setting) -> None:
        """What is taken away comes to what was taken before."""
        known = before.value is not None and assignment.value is not None
        together = ",".join(filter(None, (before.value, assignment.value))) if known else None
        lost = () if before.origin.built_in else (Overridden(before.origin, before.value),)
        self.settings[assignment.name] = Setting(
            together, assignment.origin, (*lost, *before.overridden), set_by="site"
        )

    def unknown(self, origin: Origin, *, heeds: bool = True, names: Iterable[str] | None = None) -> None:
        """A place that could not be read may have set anything that it can."""
        for name in list(self.settings) if names is None else names:
            if name in self.settings and not (heeds and (name in self.locked or not self.per_directory(name))):
                self.settings[name] = Setting(None, origin, self.settings[name].overridden, set_by="site")


def for_site(runtime: Runtime, site: Site, neighbours: Sequence[Site] = (), below: str = "") -> Runtime:
    """The runtime as requests of a site meet it, in the part of it that is called ``below``.

    ``neighbours`` are the other sites that it serves: what they send along with a request stays with the process that
    answered it, and meets whoever comes next.
    """
    merge = _Merge(runtime)
    layers = [layer for layer in site.layers if _reaches(layer, below)]
    if runtime.sapi == "apache2":
        _as_module(merge, layers)
    elif runtime.sapi in ("fpm", "cgi"):
        if runtime.sapi == "fpm":
            _from_neighbours(merge, site, neighbours)
            _sent(merge, layers)
        _sections(merge, runtime.sections, site, below)
        _user_files(merge, layers)
        for layer in layers:
            if layer.kind == "start" and layer.unread and runtime.sapi == "cgi":
                merge.unknown(layer.origin, heeds=False)
    if site.answer and not below:
        return _with_answer(replace(runtime, settings=merge.settings), site.answer)
    changed = {name for name, setting in merge.settings.items() if setting != runtime.settings[name]}
    if not changed:
        return runtime
    # What a pool said of itself was asked outside of the site.
    answer = runtime.answer
    if answer:
        answer = replace(answer, settings={k: value for k, value in answer.settings.items() if k not in changed})
    return replace(runtime, settings=merge.settings, answer=answer)


def _with_answer(runtime: Runtime, answer: SiteAnswer) -> Runtime:
    """The runtime with what the running site said; that also tells what could not be read."""
    said = answer.comparable(runtime)
    settings = {
        name: replace(setting, value=said[name], origin=SAID) if setting.value is None and name in said else setting
        for name, setting in runtime.settings.items()
    }
    return replace(runtime, settings=settings, answer=Answer(answer.extensions, said))


def parts(site: Site) -> list[str]:
    """The parts of a site whose configuration may differ: the whole, then each directory with lines of its own."""
    return list(dict.fromkeys(["", *(layer.below for layer in site.layers)]))


def _reaches(layer: Layer, below: str) -> bool:
    return not layer.below or below == layer.below or below.startswith(f"{layer.below}/")


def _as_module(merge: _Merge, layers: Iterable[Layer]) -> None:
    for layer in layers:
        if layer.kind in ("request", "request-admin", "user-ini"):
            continue
        if layer.unread:  # but for these files, an administrator's lines may stand there too
            merge.unknown(layer.origin, heeds=layer.kind == "htaccess")
        for assignment in layer.values:
            merge.put(assignment, locks=assignment.admin, together=merge.base)


def _sent(merge: _Merge, layers: Iterable[Layer]) -> None:
    for kind in ("request", "request-admin"):
        for layer in layers:
            if layer.kind != kind:
                continue
            if layer.unread:
                merge.unknown(layer.origin, heeds=False)
                merge.locked |= merge.settings.keys() if kind == "request-admin" else set()  # it may lock any of them
            for assignment in layer.values:
                merge.put(assignment, heeds=False, locks=kind == "request-admin")


def _from_neighbours(merge: _Merge, site: Site, neighbours: Sequence[Site]) -> None:
    for other in neighbours:
        for layer in other.layers if other is not site else ():
            if layer.kind in ("request", "request-admin"):
                left = [
                    assignment.name
                    for assignment in layer.values
                    if assignment.value is None or not merge.known.refuses(assignment.name, assignment.value)
                ]
                merge.unknown(layer.origin, heeds=False, names=None if layer.unread else left)


def _sections(merge: _Merge, sections: Iterable[Section], site: Site, below: str) -> None:
    """Those for the host name come first; of those for directories the nearest comes last."""
    hosts = [section for section in sections if section.kind == "host" and section.match.lower() in _names(site)]
    folder = f"{(site.root or '').rstrip('/')}/{below}".rstrip("/") + "/"
    paths = [
        section for section in sections if section.kind == "path" and folder.startswith(section.match.rstrip("/") + "/")
    ]
    for section in (*hosts, *sorted(paths, key=lambda section: len(section.match.rstrip("/")))):
        for assignment in section.values:
            if assignment.name in merge.settings and assignment.name not in TAKING:
                merge.locked.discard(assignment.name)
                merge.put(assignment, heeds=False, locks=True)


def _names(site: Site) -> set[str]:
    return {name.lower() for name in (site.name, *site.aliases)}


def _user_files(merge: _Merge, layers: Iterable[Layer]) -> None:
    before = dict(merge.settings)
    for layer in sorted((layer for layer in layers if layer.kind == "user-ini"), key=lambda layer: len(layer.below)):
        if layer.unread:
            merge.unknown(layer.origin)
        for assignment in layer.values:
            merge.put(assignment, together=before)


def views(runtime: Runtime, sites: Sequence[Site], neighbours: Sequence[Site]) -> Iterator[tuple[Site, str, Runtime]]:
    """Each of these sites, and each part of one, with the runtime as it meets it; equal ones once.

    ``neighbours`` are all sites that the runtime serves.
    """
    seen: list[tuple[str, Runtime]] = []
    for site in sites:
        for below in parts(site):
            view = for_site(runtime, site, neighbours, below)
            if not any(failing == site.failing and view.settings == other.settings for failing, other in seen):
                seen.append((site.failing, view))
                yield site, below, view
