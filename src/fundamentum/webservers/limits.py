"""What the web servers in front of PHP allow a request, site by site."""

import math
from collections.abc import Iterator, Sequence
from typing import Literal

from fundamentum.model.findings import Link
from fundamentum.model.origin import BUILT_IN
from fundamentum.model.surrounding_facts import Limit
from fundamentum.model.survey import Site, Survey
from fundamentum.webservers import webserver


def of_new_site(server: str, survey: Survey) -> dict[str, Limit]:
    """What a site would be allowed that is set up now, by name: what the web server allows all of its sites counts."""
    limits = {limit.name: limit for limit in webserver(server).new_limits()}
    for site in survey.sites:
        if site.server != server:
            continue
        files = {site.origin.file, *(place.file for place in (site.set_up, site.spot) if place is not None)}
        limits |= {
            limit.name: limit
            for limit in site.limits
            if limit.own is None and limit.part is None and limit.origin.file not in files | {BUILT_IN.file}
        }
    return limits


def allowed(
    sites: Sequence[Site], kind: Literal["sizes", "times"], least: int, to: int, survey: Survey
) -> Iterator[Link]:
    """One link for each limit of each site.  ``least`` is what it has to allow, ``to`` what it should be set to."""
    for site in (part for visited in sites for part in visited.way):
        of = webserver(site.server)
        directives = of.sizes if kind == "sizes" else of.times
        for limit in site.limits:
            directive = directives.get(limit.name)
            if directive is None:
                continue
            value = of.value(limit, survey)
            amount = directive.read(value)
            enough = None if amount is None else amount >= least
            wanted = directive.write(to)
            yield Link(
                of=of.title,
                name=limit.name,
                value=limit.value,
                shown="0 (no limit)" if value == "0" and amount == math.inf else value,
                amount=amount,
                least=least,
                origin=limit.origin,
                enough=enough,
                remedy=of.widening(site, limit, wanted, directive.by_hand) if enough is False else "",
                site=f"{site.name} {limit.part or site.part or ''}".strip(),
                to=wanted,
            )
