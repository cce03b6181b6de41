"""Which package brings which extension, read from what the packages say of themselves."""

import re
from collections.abc import Callable, Iterable
from functools import cmp_to_key
from typing import Final

from fundamentum.catalog import branch_key
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.packages import Offer
from fundamentum.model.php import Sapi
from fundamentum.model.survey import Survey
from fundamentum.platforms import packaging, platform

_NAME: Final = lazy_regex(r"\s*([A-Za-z0-9][A-Za-z0-9+._-]*)(?=[\s(,]|$)")


class Offers:
    """The offers of one server, by extension and branch."""

    def __init__(self, survey: Survey) -> None:
        self.known = survey.offers is not None
        self.complete = self.known and not any(remark.about == "package indexes" for remark in survey.remarks)
        self._by_name: dict[str, list[Offer]] = {}
        self._by_extension: dict[str, dict[str, list[Offer]]] = {}
        self.platform = platform(survey.system.family)
        self.of_php: list[tuple[Offer, str]] = []
        """The packages that belong to a branch of PHP, each with that."""
        self._shut_out: dict[str, dict[str, list[Offer]]] = {}
        self._family = survey.system.family
        for offer in survey.offers or ():
            if not offer.shut_out and offer.priority >= 0:
                self._by_name.setdefault(offer.name, []).append(offer)
            branch = self.branch_of(offer)
            if branch:
                self.of_php.append((offer, branch))
                table = self._shut_out if offer.shut_out else self._by_extension
                for extension in self.extensions_in(offer) if offer.priority >= 0 else ():
                    table.setdefault(extension, {}).setdefault(branch, []).append(offer)

    def branch_of(self, offer: Offer) -> str | None:
        """The branch of PHP that a package belongs to."""
        return packaging(self._family, offer).branch_of_offer(offer)

    def extensions_in(self, offer: Offer) -> set[str]:
        """The extensions that a package brings to the branch it belongs to."""
        branch = self.branch_of(offer)
        return packaging(self._family, offer).extensions_in(offer, branch) if branch else set()

    def collection_of(self, offer: Offer) -> str:
        """The name of the PHP in a place of its own that a package belongs to; empty for the system's own."""
        return packaging(self._family, offer).collection_of(offer)

    def package(self, name: str) -> Offer | None:
        """The offer of a package that the package manager would choose."""
        return newest(self._by_name.get(name, ()), self.platform.order)

    def supplier(self, extension: str, branch: str, home: str = "") -> Offer | None:
        """The package that brings the extension to that branch, or to the one that stands in a place of its own."""
        collection = home.rpartition("/")[2]
        offers = [
            offer
            for offer in self._by_extension.get(extension, {}).get(branch, ())
            if self.collection_of(offer) == collection and self.package(offer.name) == offer
        ]
        named = [offer for offer in offers if packaging(self._family, offer).names_branch(offer.name, branch)]
        return newest(named or offers, self.platform.order)

    def shut_out(self, extension: str, branch: str) -> Offer | None:
        """A package that would bring the extension to that branch, but cannot be installed as things are."""
        return newest(self._shut_out.get(extension, {}).get(branch, ()), self.platform.order)

    def branches_with(self, extension: str) -> list[str]:
        """The branches for which some package brings the extension, newest first."""
        return sorted(self._by_extension.get(extension, {}), key=branch_key, reverse=True)

    def runtime_package(self, branch: str, sapi: Sapi) -> Offer | None:
        """The package that makes a branch run in that way."""
        name = self.platform.package_of(sapi, branch)
        offer = self.package(name) if name else None
        return offer if offer and (not self.platform.one_branch or self.branch_of(offer) == branch) else None

    def branches(self, sapi: Sapi) -> list[str]:
        """The branches that can be installed to run in that way, newest first."""
        pattern = self.platform.sapi_packages.get(sapi, "")
        if "{branch}" not in pattern:  # one name for all branches: the one that is on offer
            offer = self.package(pattern)
            branch = self.branch_of(offer) if offer else None
            return [branch] if branch else []
        prefix, suffix = pattern.split("{branch}")
        names = (
            name[len(prefix) : len(name) - len(suffix)]
            for name in self._by_name
            if name.startswith(prefix) and name.endswith(suffix)
        )
        return sorted((name for name in names if re.fullmatch(r"[0-9]+\.[0-9]+", name)), key=branch_key, reverse=True)


def provided(offer_provides: str) -> list[str]:
    """The names in a ``Provides`` field, versions left out."""
    return [match[1] for part in offer_provides.split(",") if (match := _NAME.match(part))]


def newest(offers: Iterable[Offer], order: Callable[[str, str], int]) -> Offer | None:
    """The offer that is preferred most, and of those the one with the highest version, as the platform orders them."""
    fitting = list(offers)
    best = max((offer.priority for offer in fitting), default=0)
    fitting = [offer for offer in fitting if offer.priority == best]
    if len(fitting) < 2:
        return fitting[0] if fitting else None

    def compared(offer: Offer, two: Offer) -> int:
        return order(offer.version, two.version)

    return max(fitting, key=cmp_to_key(compared))


def upstream(version: str) -> str:
    """The version without a distribution's own additions: ``1:10.11.6-0+deb12u1`` is 10.11.6.

    ``2.12.7+dfsg+really2.9.14`` is 2.9.14: Debian went back to an older one under a higher number.
    """
    really = re.search(r"[+.]really(\d+(?:\.\d+)*)", version)
    if really:
        return really[1]
    match = re.match(r"\d+(?:\.\d+)*", version.partition(":")[2] or version)
    return match.group() if match else ""
