"""What a Debian package of PHP tells by its name and its relations: the branch it is for, what it brings.

Source: the Debian PHP packaging policy; a package that holds an extension depends on the module API (``phpapi-*``) it
was built for, and provides ``php-NAME`` for each extension in it.
"""

from typing import Final

from fundamentum.catalog import branch_of_api, canonical, catalogued
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.packages import Offer

_BRANCHED: Final = lazy_regex(r"php(\d+\.\d+)-(.+)")
_PROVIDED: Final = lazy_regex(r"\s*php(\d+\.\d+)?-(?:pecl-)?([A-Za-z0-9+._-]+)(?=[\s(,]|$)")
_API: Final = lazy_regex(r"phpapi-(\d{8})")
_NO_EXTENSION: Final = frozenset({"common", "cli", "fpm", "cgi", "dev", "phpdbg", "all-dev"})


def branch_of(offer: Offer) -> str | None:
    """The branch of PHP a package belongs to: by its name, or by the module API it depends on."""
    if offer.name.startswith("php") and (match := _BRANCHED.fullmatch(offer.name)):
        return match[1]
    if "phpapi-" not in offer.depends and "phpapi-" not in offer.pre_depends:
        return None
    match = _API.search(f"{offer.depends} {offer.pre_depends}")
    return branch_of_api(match[1]) if match else None


def extensions_in(offer: Offer, branch: str) -> set[str]:
    """The extensions a package brings, from what it provides and from its name.

    Packages that are ways of running PHP provide ``phpapi-*`` themselves and bring no extension of their own.  A
    package's own name counts if the package, the catalogue or its module API confirms it: there is a
    ``php8.2-mysql``, but no extension ``mysql`` in 8.2.
    """
    if _API.search(offer.provides):
        return set()
    matches = (_PROVIDED.match(part) for part in offer.provides.split(","))
    extensions = {canonical(match[2]) for match in matches if match and match[1] in (None, branch)}
    own = _BRANCHED.fullmatch(offer.name)
    name = own[2] if own else offer.name.removeprefix("php-")
    tied = _API.search(f"{offer.depends} {offer.pre_depends}") is not None
    if name not in _NO_EXTENSION and (tied or canonical(name) in catalogued(branch)):
        extensions.add(canonical(name))
    return extensions - {"all_dev"}
