"""What one package's relations to others allow: versions that fit, names that are provided, conflicts."""

from collections.abc import Iterator
from typing import Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.packages import Offer, Relation
from fundamentum.platforms.base import Platform

_PROVIDED: Final = lazy_regex(r"\s*([a-z0-9][a-z0-9+.-]*)(?:\s*\(=\s*([^)\s]+)\s*\))?")


def displaced(of: Platform, chosen: dict[str, Offer]) -> Iterator[str]:
    """Packages that another one both conflicts with and provides."""
    for offer in chosen.values():
        given = dict(provides(offer.provides))
        for relation_of in (relation for group in of.relations(offer.conflicts) for relation in group):
            other = (
                chosen.get(relation_of.name) if relation_of.name in given and relation_of.name != offer.name else None
            )
            if other and of.fits(other.version, relation_of):
                yield other.name


def quarrels(of: Platform, chosen: dict[str, Offer]) -> Iterator[str]:
    """Packages to be installed that cannot stand beside one another."""
    names: dict[str, list[tuple[Offer, str | None]]] = {}
    for offer in chosen.values():
        names.setdefault(offer.name, []).append((offer, offer.version))
        for name, version in provides(offer.provides):
            names.setdefault(name, []).append((offer, version))
    said: set[frozenset[str]] = set()
    for offer in chosen.values():
        for relation_of in (relation for group in of.relations(offer.conflicts) for relation in group):
            for other, version in names.get(relation_of.name, ()):
                pair = frozenset((offer.name, other.name))
                if other is not offer and pair not in said and given(of, version, relation_of):
                    said.add(pair)
                    yield f"{offer.name} cannot be installed beside {other.name}"


def provides(field: str) -> Iterator[tuple[str, str | None]]:
    """Names in a ``Provides`` field with the version each is given, if it is."""
    return ((m[1], m[2]) for part in field.split(",") if (m := _PROVIDED.match(part)))


def given(of: Platform, version: str | None, wanted: Relation) -> bool:
    """An unversioned name fulfils unversioned wishes only.  Source: Debian policy, 7.5."""
    return wanted.version is None or (version is not None and of.fits(version, wanted))
