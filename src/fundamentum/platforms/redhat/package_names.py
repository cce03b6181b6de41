"""What an rpm of PHP tells by its name and its relations: the branch it is for, what it brings, where it stands.

Source: the PHP packaging guidelines of the RHEL family; a package that holds an extension requires the Zend API it was
built for, and provides ``php-NAME`` for each extension in it.
"""

from typing import Final

from fundamentum.catalog import branch_of_api, canonical, catalogued
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.packages import Offer

_PROVIDED: Final = lazy_regex(r"\s*php-(?:pecl-)?([A-Za-z0-9+._-]+)(?=[\s(,]|$)")
_ABI: Final = lazy_regex(r"php\(zend-abi\) \(= (\d{8})-")
_SAME_SOURCE: Final = lazy_regex(r"php-common(?:\([a-z0-9_-]+\))? \(= (?:\d+:)?(\d+\.\d+)\.")
_COLLECTION: Final = lazy_regex(r"(?:(?P<collection>[a-z]+\d+)-)?php-(?P<name>.+)")
_NO_EXTENSION: Final = frozenset({"common", "cli", "fpm", "cgi", "devel", "dbg", "embedded"})


def branch_of(offer: Offer) -> str | None:
    """The branch of PHP a package belongs to: by the Zend API, or by the very version of ``php-common`` it needs."""
    relations = f"{offer.depends} {offer.pre_depends}"
    if match := _ABI.search(f"{relations} {offer.provides}"):
        return branch_of_api(match[1])
    match = _SAME_SOURCE.search(relations)
    return match[1] if match else None


def collection_of(offer: Offer) -> str:
    """The name in front of a package of a PHP that stands in a place of its own: ``php82`` of ``php82-php-gd``."""
    match = _COLLECTION.fullmatch(offer.name)
    return (match and match["collection"]) or ""


def extensions_in(offer: Offer, branch: str) -> set[str]:
    """The extensions a package brings, from what it provides and from its name.

    A package's own name counts if the catalogue or its Zend API confirms it.
    """
    prefix = f"{collection}-" if (collection := collection_of(offer)) else ""
    matches = (_PROVIDED.match(part.strip().removeprefix(prefix)) for part in offer.provides.split(","))
    extensions = {canonical(match[1]) for match in matches if match}
    name = offer.name.removeprefix(prefix).removeprefix("php-").removeprefix("pecl-")
    tied = _ABI.search(f"{offer.depends} {offer.pre_depends}") is not None
    if name not in _NO_EXTENSION and (tied or canonical(name) in catalogued(branch)):
        extensions.add(canonical(name))
    return extensions
