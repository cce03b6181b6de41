"""Whether the services on the way see the pool's socket and the site's scripts: systemd may keep them from both."""

from collections.abc import Iterator

from fundamentum.effective.sandboxed import out_of_sight, sandbox_of, service_of_php, service_of_server
from fundamentum.kinds.php.broken import Broken
from fundamentum.model.findings import Target
from fundamentum.model.survey import Site, Survey


def socket_in_sight(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether web server and process manager mean the same file by the socket's path.

    Each may have a ``/tmp`` of its own.
    """
    listen, manager = target.runtime.listen or "", target.runtime.service or ""
    if target.runtime.sapi != "fpm" or not listen.startswith("/"):
        return
    server = service_of_server(survey, site)
    for service, other in ((server, manager), (manager, server)):
        if service != other and (fence := out_of_sight(listen, service, survey)):
            actual = (
                f"{service} does not see the socket {listen} of {other} ({fence.origin}), so {site.name} is refused"
            )
            yield Broken(actual, "let the pool wait below /run/php, and hand the site there", fence.origin)


def scripts_in_sight(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether PHP's service sees the document root, and so does the web server."""
    if not site.root or target.runtime.chroot:
        return
    place = next((place for place in survey.places if place.path == site.root), None)
    root = (place.real if place else "") or site.root
    for service in dict.fromkeys((service_of_php(target.runtime, survey, site), service_of_server(survey, site))):
        if fence := out_of_sight(root, service, survey):
            actual = f"{service} does not see {root} ({fence.origin}), so {site.name} is answered with an error"
            remedy = f"put the site elsewhere, or let {service} see it: systemctl edit {service}"
            yield Broken(actual, remedy, fence.origin)
        elif (box := sandbox_of(service, survey)) and box.unsure:
            actual = f"what {service} sees of {root} is not followed ({box.unsure})"
            yield Broken(actual, f"ask {site.name} for a page", box.unsure, unknown=True)
