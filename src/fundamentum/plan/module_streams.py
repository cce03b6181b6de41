"""Module streams that could be switched on, and the server as it would then be."""

from collections.abc import Iterator

import msgspec
from msgspec.structs import replace

from fundamentum.changes.packages import Install
from fundamentum.effective.fresh_runtime import fresh_runtime
from fundamentum.model.findings import Target
from fundamentum.model.packages import Offer
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.survey import Site, Survey
from fundamentum.plan.apply_changes import apply
from fundamentum.platforms.offers import Offers


class Switched(msgspec.Struct, frozen=True):
    """A stream, and what the server would be with it."""

    switch: str
    branch: str
    target: Target
    survey: Survey


def candidates(survey: Survey, offers: Offers) -> Iterator[Switched]:
    """Every stream of PHP that is there but not switched on."""
    streams: dict[str, str] = {}
    for offer in survey.offers or ():
        if offer.stream and offer.shut_out and (branch := offers.branch_of(offer)):
            streams.setdefault(offer.stream, branch)
    for stream, branch in streams.items():
        world = _switched(survey, stream, branch)
        runtime = next(
            (
                runtime
                for runtime in world.runtimes
                if runtime.sapi == "fpm" and runtime.branch == branch and not runtime.home
            ),
            None,
        )
        if runtime:
            target = Target(runtime, f"the module stream {stream} brings it in place of what is installed")
        elif Offers(world).runtime_package(branch, "fpm"):
            target = Target(fresh_runtime(world, branch, "fpm"), f"offered by the module stream {stream}", False)
        else:
            continue
        yield Switched(stream, branch, target, world)


def _switched(survey: Survey, stream: str, branch: str) -> Survey:
    """The offers with that stream switched on, and what is installed replaced by its packages of the same name."""
    module = stream.partition(":")[0]
    mine = {offer.name for offer in survey.offers or () if offer.stream == stream}
    seen = tuple(_seen(offer, module, stream, mine) for offer in survey.offers or ())
    old = [runtime for runtime in survey.runtimes if not runtime.home]
    kept = tuple(package for package in survey.installed or () if package.name not in mine)
    world = replace(
        survey,
        offers=seen,
        installed=kept,
        runtimes=tuple(runtime for runtime in survey.runtimes if runtime.home),
        branches=tuple(branch for branch in survey.branches if branch.home),
    )
    again = [Install(package.name) for package in survey.installed or () if package.name in mine]
    world = apply(again, world, Offers(world))
    runtimes = tuple(_configured(runtime, old) for runtime in world.runtimes)
    return replace(world, runtimes=runtimes, sites=tuple(_handed_on(site, old, runtimes) for site in world.sites))


def _handed_on(site: Site, old: list[Runtime], runtimes: tuple[Runtime, ...]) -> Site:
    """A site is handed to what takes the place of the runtime that it was handed to."""
    before = next((runtime for runtime in old if runtime.label == site.runtime), None)
    then = (
        listed
        for listed in runtimes
        if before and not listed.home and (listed.sapi, listed.pool) == (before.sapi, before.pool)
    )
    return replace(site, runtime=runtime.label) if (runtime := next(then, None)) else site


def _seen(offer: Offer, module: str, stream: str, mine: set[str]) -> Offer:
    if offer.stream == stream:
        return replace(offer, shut_out="")
    if offer.stream.partition(":")[0] == module:
        return replace(offer, shut_out=f"its module stream {offer.stream} is not switched on")
    if not offer.stream and offer.name in mine:
        return replace(offer, shut_out=f"the module stream {stream} takes its place")
    return offer


def _configured(runtime: Runtime, old: list[Runtime]) -> Runtime:
    """The configuration files stay, and so does what they set."""
    before = next((listed for listed in old if (listed.sapi, listed.pool) == (runtime.sapi, runtime.pool)), None)
    if before is None or runtime.home:
        return runtime
    settings: dict[str, Setting] = {
        name: before.settings[name]
        if name in before.settings and not before.settings[name].origin.built_in
        else setting
        for name, setting in runtime.settings.items()
    }
    return replace(runtime, settings=settings, listen=before.listen, user=before.user, pool_file=before.pool_file)
