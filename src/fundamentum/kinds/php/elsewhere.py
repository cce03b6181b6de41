"""Where a PHP would come from that the application accepts, where neither this server nor its repositories have one."""

from datetime import UTC, date, datetime
from typing import Final

from fundamentum.catalog import known_branches, security_ends
from fundamentum.catalog.releases import carrying, releases
from fundamentum.kinds.base import Context
from fundamentum.model.versions import VersionRange

MAX_NAMED: Final = 4
"""Releases, and sites, that are named."""


def elsewhere(versions: VersionRange, context: Context) -> str:
    """Releases and kinds of sources that carry an accepted branch, what that means for others, and how to look."""
    survey = context.survey
    day = datetime.fromtimestamp(survey.taken, UTC).date() if survey.taken else date(2000, 1, 1)
    some = [branch for branch in known_branches() if versions.accepts_branch(branch)]
    if not some:
        return "no PHP that the application accepts is known here: ask its maker for a newer release of it"
    mended = [branch for branch in some if (ends := security_ends(branch)) and ends > day]
    sought = " or ".join(mended or some[-1:])
    of, runtime = context.offers.platform, context.target.runtime
    php = survey.branch_of(runtime)
    if archive := of.php_from((mended or some)[-1], runtime.sapi == "apache2", php.processor if php else ""):
        return archive
    parts = ["no PHP that the application accepts is installed or offered here"]
    known = {release.id for release in releases()}
    own = survey.system.id if survey.system.id in known else context.offers.platform.release_id
    carried_by = carrying(versions.accepts_branch, own, day)
    if carried_by:
        named = ", ".join(f"{release.name} ({', '.join(branches)})" for release, branches in carried_by[:MAX_NAMED])
        parts.append(f"releases that carry one: {named}")
    if context.offers.platform.packaged and not context.offers.platform.one_branch:
        parts.append(f"or a source that carries PHP {sought} beside this release's own: {_beside(context)}")
    elif context.offers.platform.one_branch:
        parts.append(f"or another module stream, or a source that carries PHP {sought} in a place of its own")
    if not mended:
        parts.append(
            f"none that it accepts is mended by the PHP project any more: a newer release of {context.needs.name}"
        )
    parts.append("to see what a source would bring: plan --index PATH ('fundamentum help indexes')")
    return "; ".join(parts)


def _beside(context: Context) -> str:
    """What becomes of the others that this server serves."""
    mine = {context.target.site, context.site.name if context.site else None}
    others = sorted({site.name for site in context.survey.sites if site.runtime} - mine)
    if not others:
        return "a second PHP, and the first can go"
    and_more = f" and {len(others) - MAX_NAMED} more" if len(others) > MAX_NAMED else ""
    names = ", ".join(others[:MAX_NAMED])
    return (
        f"{names}{and_more} stay on {context.target.runtime.branch}; with a newer release of the system they move too"
    )
