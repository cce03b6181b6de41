"""The sites for which a runtime is judged."""

from fundamentum.model.findings import Target
from fundamentum.model.survey import Site, Survey


def sites_of(survey: Survey, target: Target) -> list[Site]:
    """The sites that the runtime serves; only the one it was chosen by, if it was chosen by one."""
    runtime = target.runtime
    sites = [site for site in survey.sites if site.runtime in (runtime.label, target.beside or runtime.label)]
    named = [site for site in sites if target.site in (site.name, *site.aliases)]
    idle = [site for site in survey.idle_sites if target.site in (site.name, *site.aliases)]
    return named or (idle if target.site else []) or sites
