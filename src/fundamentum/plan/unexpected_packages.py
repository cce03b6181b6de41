"""Packages that come along although nobody would expect them."""

import re
from collections.abc import Iterable

from fundamentum.model.survey import Survey
from fundamentum.plan.made_plan import Aside
from fundamentum.plan.package_dependencies import Along
from fundamentum.platforms import platform
from fundamentum.webservers import packages as web_server_packages


def asides(along: Along, wanted: Iterable[str], survey: Survey) -> list[Aside]:
    """Packages that come along although nobody would expect them, with the way to avoid each."""
    present = {package.name for package in survey.installed or ()}
    web_servers = set(web_server_packages())
    served = sorted(present & web_servers)
    asked = set(wanted)
    of = platform(survey.system.family)
    unexpected = []
    for name in along.packages:
        if name in present:
            continue
        puller = next(
            (offer.name for offer in along.offers.values() if re.search(rf"\b{re.escape(name)}\b", offer.depends)), ""
        )
        instead = f"it comes with {puller}: ask for packages that do not depend on it" if puller else "leave it out"
        if name in web_servers and (served or asked & web_servers):
            unexpected.append(
                Aside(name, f"a second web server, beside {', '.join(served) or 'the one asked for'}", instead)
            )
        elif name in web_servers:
            unexpected.append(Aside(name, "a web server that was not asked for", instead))
        elif of.sapi_of(name) in ("apache2", "fpm", "cgi"):
            unexpected.append(Aside(name, "another way of running PHP", instead))
        elif re.search(r"-dev$|^(gcc|g\+\+|make|build-essential|autoconf)(-[0-9]+)?$", name):
            unexpected.append(Aside(name, "a development tool", instead))
    return unexpected
