"""Packages that the package manager would refuse, with all the others of that command: the rest is planned without."""

from collections.abc import Iterable, Sequence

from msgspec.structs import replace

from fundamentum.model.findings import Target
from fundamentum.model.survey import Survey
from fundamentum.plan.package_dependencies import Resolver
from fundamentum.platforms import platform


def without_impossible(survey: Survey, wanted: Iterable[str], resolver: Resolver) -> Survey | None:
    """The survey in which packages that cannot be installed beside those in front of them are shut out, and why.

    None if all of them together can be, or if it cannot be told which is to blame.
    """
    kept: list[str] = []
    refused: dict[str, str] = {}
    for name in wanted:
        missing = resolver.along([*kept, name]).missing
        if missing:
            refused[name] = f"it cannot be installed: {missing[0]}"
        else:
            kept.append(name)
    if not refused:
        return None
    offers = (replace(o, shut_out=refused[o.name]) if o.name in refused else o for o in survey.offers or ())
    return replace(survey, offers=tuple(offers))


def no_php(targets: Sequence[Target], survey: Survey) -> bool:
    """Whether one of the PHPs that are to be installed is shut out itself."""
    shut = {offer.name for offer in survey.offers or () if offer.shut_out}
    packages = (
        platform(survey.system.family).package_of(t.runtime.sapi, t.runtime.branch) for t in targets if not t.present
    )
    return not shut.isdisjoint(packages)
