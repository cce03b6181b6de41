"""A site that is handed to a PHP which is not there, or of which cannot be told which it is."""

from typing import Any

from msgspec.structs import replace

from fundamentum.model.findings import Finding, Target
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms.offers import Offers


def stray_site(survey: Survey, target: Target) -> Site | None:
    """The judged site, if it is handed to a PHP that is not there, or of which cannot be told which it is."""
    strays = (site for site in survey.sites if site.runtime is None and target.site)
    return next((site for site in strays if target.site == f"{site.name} {site.part or ''}".strip()), None)


def for_stray(finding: Finding, survey: Survey, target: Target, site: Site, offers: Offers) -> Finding:
    """The finding about PHP itself of such a site."""
    runtime, handler = target.runtime, site.handler.removeprefix("unix:")
    waits = [runtime for runtime in survey.runtimes if runtime.sapi == "fpm" and runtime.listen]
    offer = offers.runtime_package(runtime.branch, runtime.sapi)
    to = f"{site.handler}, where no PHP is seen" if site.handler else "a PHP that cannot be told"
    words: dict[str, Any] = {
        "found": f"{site.name} is handed to {to}",
        "origin": site.origin,
    }
    if unclear(site) or survey.reader == "user":
        remedy = f"look what {site.origin} hands it to, and give that with --runtime"
        return replace(finding, verdict="unknown", remedy=remedy, **words)
    if offer and handler == runtime.listen and not any(listed.label == runtime.label for listed in survey.runtimes):
        remedy = f"install {offer.name} ({offer.source}), which waits there"
        return replace(
            finding, verdict="unmet", state="installable", subject="fpm", package=offer.name, remedy=remedy, **words
        )
    way = f"hand it to {waits[0].label} ({waits[0].listen})" if waits else "hand it to a PHP"
    return replace(finding, verdict="unmet", remedy=f"{way} at {site.origin}, or let a PHP wait there", **words)


def unclear(site: Site) -> bool:
    """Whether it depends on the request, or on what is not followed, to which PHP a site is handed."""
    script = site.handler.startswith("/") and not site.handler.lower().endswith((".so", ".dll", ".exe"))
    return not site.handler or "$" in site.handler or script
