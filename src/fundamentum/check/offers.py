"""Which package brings which extension, read from what the packages say of themselves."""

import re
from collections.abc import Callable, Iterable
from functools import cmp_to_key
from typing import Final

from fundamentum.catalog import branch_key, branch_of_api, canonical, catalogued
from fundamentum.model.packages import Offer
from fundamentum.model.php import Sapi
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform

_BRANCHED: Final = re.compile(r"php(\d+\.\d+)-(.+)")
_NAME: Final = re.compile(r"\s*([A-Za-z0-9][A-Za-z0-9+._-]*)(?=[\s(,]|$)")
_API: Final = re.compile(r"phpapi-(\d{8})")
_ABI: Final = re.compile(r"php\(zend-abi\) \(= (\d{8})-")
_SAME_SOURCE: Final = re.compile(r"php-common(?:\([a-z0-9_-]+\))? \(= (?:\d+:)?(\d+\.\d+)\.")
_COLLECTION: Final = re.compile(r"(?:(?P<collection>[a-z]+\d+)-)?php-(?P<name>.+)")
_NO_EXTENSION: Final = frozenset({"common", "cli", "fpm", "cgi", "dev", "phpdbg", "all-dev"})


class Market:
    """The offers of one server, by extension and branch."""

    def __init__(self, survey: Survey) -> None:
        self.known = survey.offers is not None
        self.complete = self.known and not any(remark.about == "package indexes" for remark in survey.remarks)
        self._by_name: dict[str, list[Offer]] = {}
        self._by_extension: dict[str, dict[str, list[Offer]]] = {}
        self.platform = platform(survey.system.family)
        self._shut_out: dict[str, dict[str, list[Offer]]] = {}
        for offer in survey.offers or ():
            if not offer.shut_out and offer.priority >= 0:
                self._by_name.setdefault(offer.name, []).append(offer)
            branch = branch_of(offer)
            if branch:
                table = self._shut_out if offer.shut_out else self._by_extension
                for extension in extensions_in(offer, branch) if offer.priority >= 0 else ():
                    table.setdefault(extension, {}).setdefault(branch, []).append(offer)

    def package(self, name: str) -> Offer | None:
        """The offer of a package that the package manager would choose."""
        return newest(self._by_name.get(name, ()), self.platform.order)

    def supplier(self, extension: str, branch: str, home: str = "") -> Offer | None:
        """The package that brings the extension to that branch, or to the one that stands in a place of its own."""
        collection = home.rpartition("/")[2]
        found = [
            offer
            for offer in self._by_extension.get(extension, {}).get(branch, ())
            if collection_of(offer) == collection and self.package(offer.name) == offer
        ]
        named = [offer for offer in found if offer.name.startswith(f"php{branch}-")]
        return newest(named or found, self.platform.order)

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
        return offer if offer and (not self.platform.one_branch or branch_of(offer) == branch) else None

    def branches(self, sapi: Sapi) -> list[str]:
        """The branches that can be installed to run in that way, newest first."""
        pattern = self.platform.sapi_packages.get(sapi, "")
        if "{branch}" not in pattern:  # one name for all branches: the one that is on offer
            offer = self.package(pattern)
            branch = branch_of(offer) if offer else None
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


def branch_of(offer: Offer) -> str | None:
    """The PHP branch a package belongs to: by its name, or by what it depends on.

    That is ``phpapi-*`` (Debian), ``php(zend-abi)``, or the very version of ``php-common`` (RHEL family).
    """
    if match := _BRANCHED.fullmatch(offer.name):
        return match[1]
    relations = f"{offer.depends} {offer.pre_depends}"
    if match := _API.search(relations) or _ABI.search(f"{relations} {offer.provides}"):
        return branch_of_api(match[1])
    if match := _SAME_SOURCE.search(relations):
        return match[1]
    return None


def collection_of(offer: Offer) -> str:
    """The name in front of a package of a PHP that stands in a place of its own: ``php82`` of ``php82-php-gd``."""
    match = _COLLECTION.fullmatch(offer.name)
    return (match and match["collection"]) or ""


def extensions_in(offer: Offer, branch: str) -> set[str]:
    """The extensions a package brings, from its ``Provides`` and its name.

    Packages that are ways of running PHP provide ``phpapi-*`` themselves and bring no extension of their own.
    A package's own name counts if the package, the catalogue or a ``phpapi-*`` dependency confirms it: there
    is a ``php8.2-mysql``, but no extension ``mysql`` in 8.2.
    """
    names = provided(offer.provides)
    if any(name.startswith("phpapi-") for name in names):
        return set()
    found = set()
    collection = collection_of(offer)
    for name in names:
        if collection:
            name = name.removeprefix(f"{collection}-")
        match = re.fullmatch(r"php(\d+\.\d+)?-(?:pecl-)?(.+)", name)
        if match and match[1] in (None, branch):
            found.add(canonical(match[2]))
    own = _BRANCHED.fullmatch(offer.name)
    suffix = own[2] if own else offer.name.removeprefix(f"{collection}-").removeprefix("php-").removeprefix("pecl-")
    relations = f"{offer.depends} {offer.pre_depends}"
    tied = _API.search(relations) is not None or _ABI.search(relations) is not None
    if suffix not in _NO_EXTENSION and (tied or canonical(suffix) in catalogued(branch)):
        found.add(canonical(suffix))
    return found - {"all_dev"}


def newest(offers: Iterable[Offer], order: Callable[[str, str], int]) -> Offer | None:
    """The offer that is preferred most, and of those the one with the highest version, as the platform orders them."""
    found = list(offers)
    best = max((offer.priority for offer in found), default=0)
    found = [offer for offer in found if offer.priority == best]
    if len(found) < 2:
        return found[0] if found else None

    def compared(one: Offer, two: Offer) -> int:
        return order(one.version, two.version)

    return max(found, key=cmp_to_key(compared))


def upstream(version: str) -> str:
    """The version without a distribution's own additions: ``1:10.11.6-0+deb12u1`` is 10.11.6."""
    match = re.match(r"\d+(?:\.\d+)*", version.partition(":")[2] or version)
    return match.group() if match else ""
