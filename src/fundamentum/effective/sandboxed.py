"""What the service that runs PHP, or a web server, is kept from by systemd, whatever the rights of its user."""

from collections.abc import Collection
from typing import Final

from msgspec.structs import replace

from fundamentum.model.findings import Finding, Target
from fundamentum.model.php import Runtime
from fundamentum.model.sandbox import Fence, Sandbox
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms import platform

_OUT_OF_SIGHT: Final = ("hidden", "its own")
_NOT_WRITTEN: Final = ("hidden", "read-only")


def service_of_php(runtime: Runtime, survey: Survey, site: Site | None) -> str:
    """The service in which PHP runs: its own manager's, or that of the web server; empty: it is not known."""
    if runtime.sapi == "fpm" or site is None:
        return runtime.service or ""
    return service_of_server(survey, site)


def service_of_server(survey: Survey, site: Site) -> str:
    """The service of a site's web server."""
    return platform(survey.system.family).web_service(site.server)


def sandbox_of(service: str, survey: Survey) -> Sandbox | None:
    """What a service is kept from; None: from nothing."""
    return next((sandbox for sandbox in survey.sandboxes if sandbox.service == service), None)


def out_of_sight(path: str, service: str, survey: Survey) -> Fence | None:
    """Why a service does not see what everybody else sees at a path; None: it does, or that is not known."""
    return _fence(path, service, survey, _OUT_OF_SIGHT)


def read_only(path: str, service: str, survey: Survey) -> Fence | None:
    """Why a service may write nothing at a path; None: it may, as far as its user may, or that is not known."""
    return _fence(path, service, survey, _NOT_WRITTEN)


def _fence(path: str, service: str, survey: Survey, kinds: Collection[str]) -> Fence | None:
    """What counts for a path in the service's own view, if it is of one of some kinds."""
    fence = box.around(path) if (box := sandbox_of(service, survey)) else None
    return fence if fence and fence.access in kinds else None


def in_sandbox(finding: Finding, path: str, access: str, survey: Survey, target: Target, site: Site | None) -> Finding:
    """The finding about a directory, held against what the service that runs PHP sees of it, and may change there."""
    service = service_of_php(target.runtime, survey, site)
    box = sandbox_of(service, survey)
    if box is None or finding.verdict == "unknown" or access == "there":
        return finding
    if box.unsure and finding.verdict == "met":
        why = f"what {service} sees at {path} is not followed: look at {box.unsure}"
        return replace(finding, verdict="unknown", remedy=why)
    fence = box.around(path)
    if fence and fence.access in _OUT_OF_SIGHT and path != fence.path:
        words = f"{service} does not see it ({fence.origin})"
        remedy = f"put it where {service} sees it, or let it: {_edited(service)}"
    elif fence and access == "writable" and fence.access in _NOT_WRITTEN:
        words = f"read-only for {service} ({fence.origin})"
        remedy = f"add ReadWritePaths={path} under [Service] ({_edited(service)})"
    else:
        return finding
    actual = f"{finding.found}, but {words}"
    together = "; ".join(filter(None, (finding.remedy, remedy)))
    return replace(finding, verdict="unmet", found=actual, remedy=together, origin=fence.origin)


def _edited(service: str) -> str:
    return f"systemctl edit {service}, then systemctl restart {service}"
