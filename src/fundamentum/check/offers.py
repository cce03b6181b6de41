"""Which package brings which extension, read from what the packages say of themselves."""

import re
from collections.abc import Iterable
from functools import cmp_to_key
from typing import Final

from fundamentum.catalog import branch_key, branch_of_api, canonical, catalogued
from fundamentum.server.model import Offer, Sapi, Survey

SAPI_PACKAGES: Final[dict[Sapi, str]] = {
    "cli": "php{branch}-cli",
    "fpm": "php{branch}-fpm",
    "apache2": "libapache2-mod-php{branch}",
    "cgi": "php{branch}-cgi",
}
_BRANCHED: Final = re.compile(r"php(\d+\.\d+)-(.+)")
_NAME: Final = re.compile(r"\s*([a-z0-9][a-z0-9+.-]*)")
_API: Final = re.compile(r"phpapi-(\d{8})")
_NO_EXTENSION: Final = frozenset({"common", "cli", "fpm", "cgi", "dev", "phpdbg", "all-dev"})


class Market:
    """The offers of one server, by extension and branch."""

    def __init__(self, survey: Survey) -> None:
        self.known = survey.offers is not None
        self.complete = self.known and not any(remark.about == "package indexes" for remark in survey.remarks)
        self._by_name: dict[str, list[Offer]] = {}
        self._by_extension: dict[str, dict[str, list[Offer]]] = {}
        for offer in survey.offers or ():
            self._by_name.setdefault(offer.name, []).append(offer)
            branch = branch_of(offer)
            if branch:
                for extension in extensions_in(offer, branch):
                    self._by_extension.setdefault(extension, {}).setdefault(branch, []).append(offer)

    def package(self, name: str) -> Offer | None:
        """The newest offer of a package."""
        return newest(self._by_name.get(name, ()))

    def supplier(self, extension: str, branch: str) -> Offer | None:
        """The package that brings the extension to that branch."""
        found = self._by_extension.get(extension, {}).get(branch, ())
        named = [offer for offer in found if offer.name.startswith(f"php{branch}-")]
        return newest(named or found)

    def branches_with(self, extension: str) -> list[str]:
        """The branches for which some package brings the extension, newest first."""
        return sorted(self._by_extension.get(extension, {}), key=branch_key, reverse=True)

    def runtime_package(self, branch: str, sapi: Sapi) -> Offer | None:
        """The package that makes a branch run in that way."""
        return self.package(SAPI_PACKAGES[sapi].format(branch=branch))

    def branches(self, sapi: Sapi) -> list[str]:
        """The branches that can be installed to run in that way, newest first."""
        prefix, suffix = SAPI_PACKAGES[sapi].split("{branch}")
        names = (
            name[len(prefix) : len(name) - len(suffix)]
            for name in self._by_name
            if name.startswith(prefix) and name.endswith(suffix)
        )
        return sorted((name for name in names if re.fullmatch(r"\d+\.\d+", name)), key=branch_key, reverse=True)


def provided(offer_provides: str) -> list[str]:
    """The names in a ``Provides`` field, versions left out."""
    return [match[1] for part in offer_provides.split(",") if (match := _NAME.match(part))]


def branch_of(offer: Offer) -> str | None:
    """The PHP branch a package belongs to: by its name, or by the ``phpapi-*`` it depends on."""
    if match := _BRANCHED.fullmatch(offer.name):
        return match[1]
    if match := _API.search(f"{offer.depends} {offer.pre_depends}"):
        return branch_of_api(match[1])
    return None


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
    for name in names:
        match = re.fullmatch(r"php(\d+\.\d+)?-(.+)", name)
        if match and match[1] in (None, branch):
            found.add(canonical(match[2]))
    own = _BRANCHED.fullmatch(offer.name)
    suffix = own[2] if own else offer.name.removeprefix("php-")
    tied = _API.search(f"{offer.depends} {offer.pre_depends}") is not None
    if suffix not in _NO_EXTENSION and (tied or canonical(suffix) in catalogued(branch)):
        found.add(canonical(suffix))
    return found - {"all_dev"}


def newest(offers: Iterable[Offer]) -> Offer | None:
    """The offer with the highest version.  Source: Debian policy, 5.6.12."""
    found = list(offers)
    if len(found) < 2:
        return found[0] if found else None
    return max(found, key=cmp_to_key(_by_version))


def _by_version(one: Offer, two: Offer) -> int:
    from debian.debian_support import version_compare  # noqa: PLC0415 — needed only where a choice exists

    return int(version_compare(one.version, two.version))
