"""What comes along: the packages that the wanted ones depend on and that are not installed yet."""

from collections.abc import Iterable

from debian.debian_support import version_compare

from fundamentum.check.offers import Market, newest, provided
from fundamentum.server.control import Relation, relations
from fundamentum.server.model import Offer, Survey


class Resolver:
    """Follows ``Depends`` and ``Pre-Depends`` as apt does: keeps what is installed, takes the first alternative."""

    def __init__(self, survey: Survey, market: Market) -> None:
        self.market = market
        self.present = {one.name: one.version for one in survey.installed or ()}
        self.present_virtual = {name for one in survey.installed or () for name in provided(one.provides)}
        self._providers: dict[str, list[Offer]] | None = None
        self._offers = survey.offers or ()

    def along(self, wanted: Iterable[str]) -> tuple[list[str], list[str]]:
        """The packages that come along, sorted, and the dependencies that nothing on offer fulfils."""
        wanted = list(dict.fromkeys(wanted))
        chosen = {name: offer.version for name in wanted if (offer := self.market.package(name))}
        virtual = {p for name in chosen if (offer := self.market.package(name)) for p in provided(offer.provides)}
        missing: list[str] = []
        todo = list(chosen)
        while todo:
            offer = self.market.package(todo.pop())
            if offer is None:
                continue
            for group in relations(offer.pre_depends) + relations(offer.depends):
                if any(self._holds(one, chosen, virtual) for one in group):
                    continue
                found = next(filter(None, (self._supply(one) for one in group)), None)
                if found is None:
                    missing.append(f"{offer.name} depends on {' | '.join(one.name for one in group)}")
                elif found.name not in chosen:
                    chosen[found.name] = found.version
                    virtual |= set(provided(found.provides))
                    todo.append(found.name)
        return sorted(set(chosen) - set(wanted)), missing

    def _holds(self, relation: Relation, chosen: dict[str, str], virtual: set[str]) -> bool:
        name = relation.name
        version = chosen.get(name) or self.present.get(name)
        if version is not None:
            return _version_fits(version, relation)
        return relation.version is None and (name in self.present_virtual or name in virtual)

    def _supply(self, relation: Relation) -> Offer | None:
        offer = self.market.package(relation.name)
        if offer is not None:
            return offer if _version_fits(offer.version, relation) else None
        if self._providers is None:
            self._providers = {}
            for one in self._offers:
                for name in provided(one.provides):
                    self._providers.setdefault(name, []).append(one)
        return newest(self._providers.get(relation.name, ()))


def _version_fits(version: str, wanted: Relation) -> bool:
    """Source: Debian policy, 7.1; ``<`` and ``>`` are old spellings of ``<=`` and ``>=``."""
    if wanted.version is None:
        return True
    order = version_compare(version, wanted.version)
    fits = {"<<": order < 0, "=": order == 0, ">>": order > 0}
    return fits.get(wanted.operator or "=", order <= 0 if wanted.operator in ("<=", "<") else order >= 0)
