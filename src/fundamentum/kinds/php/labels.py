"""Whether an enforcing system lets web server and PHP read the site's scripts: labels decide that, beside modes."""

import posixpath
import shlex
from collections.abc import Iterator

from fundamentum.kinds.php.broken import Broken
from fundamentum.model.findings import Target
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Place
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms import platform


def labelled(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether the document root and its first script have labels that the policy lets a web server read.

    Source: httpd_selinux(8).  What was moved there keeps the label of where it came from.
    """
    if not survey.machine.enforcing or not site.root:
        return
    places = {place.path: place for place in survey.places}
    for path in (site.root, f"{site.root.rstrip('/')}/index.php"):
        place = places.get(path)
        if place and place.kind in ("directory", "file") and (broken := _refused(place, survey, site)):
            yield broken
            return


def _refused(place: Place, survey: Survey, site: Site) -> Broken | None:
    """What comes of the label of one place; None: it is read, or its label is not known."""
    of = platform(survey.system.family)
    kind = place.label.split(":")[2] if place.label.count(":") >= 2 else ""
    if not kind or kind.startswith("httpd_") or kind in of.read_labels:
        return None
    path = place.real or place.path
    folder = path if place.kind == "directory" else posixpath.dirname(path)
    rule = shlex.join(["semanage", "fcontext", "-a", "-t", of.content_label, f"{folder}(/.*)?"])
    remedy = f"{rule} && {shlex.join(['restorecon', '-R', folder])}, for all directories of the application"
    if kind in of.refused_labels:
        actual = f"SELinux keeps the web server from {path} (labelled {kind}), so {site.name} is refused"
        return Broken(actual, remedy, Origin(path))
    actual = f"whether SELinux lets the web server read {path} (labelled {kind}) is not known"
    if boolean := of.switched_labels.get(kind):
        return Broken(actual, f"see whether it is on: getsebool {boolean}; or: {remedy}", Origin(path), unknown=True)
    return Broken(actual, f"ask {site.name} for a page; if it is refused: {remedy}", Origin(path), unknown=True)
