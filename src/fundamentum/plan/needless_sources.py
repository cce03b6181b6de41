"""Package sources that are there, or proposed, for a PHP that the release offers itself."""

from collections.abc import Iterator

from fundamentum.catalog import branch_key
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


def needless(survey: Survey, offers: Offers) -> Iterator[str]:
    """Each such source in a sentence.  The release's own are those whose origin is the name of the system."""
    of = offers.platform
    patterns = set(of.sapi_packages.values())
    branches: dict[str, set[str]] = {}
    for offer, branch in offers.of_php:
        if any(offer.name == pattern.format(branch=branch) for pattern in patterns):
            branches.setdefault(offer.source, set()).add(branch)
    own = {
        known.name for known in survey.repositories if known.origin and known.origin.lower() == survey.system.id.lower()
    }
    offered = set().union(*(branches.get(name, set()) for name in own))
    for repository in dict.fromkeys(
        repository.name for repository in survey.repositories if repository.name not in own
    ):
        if same := sorted(branches.get(repository, set()) & offered, key=branch_key):
            yield (
                f"the package source {repository} is needless for PHP {', '.join(same)}: "
                f"{survey.system.name or 'this release'} offers that itself"
            )
