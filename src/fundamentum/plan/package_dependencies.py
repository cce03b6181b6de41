"""What comes along with packages, and what has to go: the answer apt would give, from the indexes alone."""

from collections.abc import Iterable, Iterator
from typing import Final

import msgspec

from fundamentum.model.packages import Offer, Relation
from fundamentum.model.survey import Survey
from fundamentum.plan.package_relations import displaced, given, provides, quarrels
from fundamentum.platforms.offers import Offers, provided

ATTEMPTS: Final = 5


class Along(msgspec.Struct):
    """What apt would do besides installing what was asked for."""

    packages: list[str]
    """To be installed or brought to another version."""
    removed: list[str]
    missing: list[str]
    """Dependencies that nothing on offer fulfils, in words."""
    offers: dict[str, Offer]
    """Every package that is installed, with the offer it comes from."""
    upgrades: dict[str, tuple[str, str]] = {}
    """Installed packages that are brought to another version: name → version now, and then."""
    fetch: int = 0
    """Bytes to be fetched."""
    space: int = 0
    """Bytes that what is new takes."""


class Resolver:
    """Follows relations as apt does: keeps what is installed, takes the first alternative that can be had."""

    def __init__(self, survey: Survey, offers: Offers) -> None:
        self.offers = offers
        self.of = offers.platform
        self.present = {package.name: package.version for package in survey.installed or ()}
        self.held = {package.name for package in survey.installed or () if package.held}
        self._given = {
            package.name: dict(provides(package.provides)) for package in survey.installed or () if package.provides
        }
        relations = ((package.name, self.of.relations(package.bound)) for package in survey.installed or ())
        self._bound = {name: groups for name, groups in relations if groups}
        self._providers: dict[str, list[Offer]] | None = None
        self._offers = survey.offers or ()
        self._by_source = self.of.upgrades_by_source(self.present)
        self._siblings: dict[str, list[Offer]] | None = None
        self._avoided: set[str] = set()
        self._whole: dict[tuple[str, str], bool] = {}

    def along(self, wanted: Iterable[str]) -> Along:
        """The whole consequence of installing these packages.

        Where two packages that come along cannot stand beside one another, and one provides the other, that one does.
        """
        wanted = list(dict.fromkeys(wanted))
        self._avoided = set()
        for _ in range(ATTEMPTS):
            attempt = self._attempt(wanted)
            losing = {name for name in displaced(self.of, attempt.offers) if name not in wanted} - self._avoided
            if not losing:
                break
            self._avoided |= losing
        return attempt

    def _attempt(self, wanted: list[str]) -> Along:
        chosen = {name: offer for name in wanted if (offer := self.offers.package(name))}
        missing: list[str] = []
        removed: list[str] = []
        todo = list(chosen.values())
        while True:
            todo += self._upgraded_with(chosen, removed, missing) if not todo else []
            if not todo:
                break
            offer = todo.pop(0)
            for group in self.of.relations(offer.pre_depends) + self.of.relations(offer.depends):
                if any(self._holds(relation, chosen, removed) for relation in group):
                    continue
                package = next(filter(None, (self._supply(relation, offer) for relation in group)), None)
                if package is None:
                    missing.append(self._lack(offer, group))
                elif package.name not in chosen:
                    chosen[package.name] = package
                    todo.append(package)
            todo += self._conflicts(offer, chosen, removed)
            todo += self._of_one_source(offer, chosen, removed) if self._by_source else ()
        missing += quarrels(self.of, chosen)
        removed += self._orphaned(chosen, removed) if removed else []
        packages = sorted(set(chosen) - set(wanted))
        upgrades = {
            name: (self.present[name], offer.version)
            for name, offer in chosen.items()
            if self.present.get(name, offer.version) != offer.version
        }
        new = [offer for name, offer in chosen.items() if self.present.get(name) != offer.version]
        space = sum(offer.space for offer in new if offer.name not in self.present)
        gone = sorted(set(removed) - set(chosen))
        return Along(packages, gone, missing, chosen, upgrades, sum(offer.size for offer in new), space)

    def _upgraded_with(self, chosen: dict[str, Offer], removed: list[str], missing: list[str]) -> Iterator[Offer]:
        """Installed packages that ask for the very version of another one, once that one is brought to another.

        They are brought along to the version that fits; what has none goes.
        """
        moved = {name for name, offer in chosen.items() if self.present.get(name, offer.version) != offer.version}
        for name, groups in self._bound.items() if moved else ():
            concerned = any(relation.name in moved for group in groups for relation in group)
            if name in chosen or name in removed or not concerned:
                continue
            if all(any(self._holds(relation, chosen, removed) for relation in group) for group in groups):
                continue
            newer = self.offers.package(name)
            if name in self.held:
                words = f"{name} is on hold at {self.present[name]}, which does not go with {', '.join(sorted(moved))}"
                missing += [words] if words not in missing else []
            elif newer is None or newer.version == self.present[name]:
                removed.append(name)
            else:
                chosen[name] = newer
                yield newer

    def _of_one_source(self, offer: Offer, chosen: dict[str, Offer], removed: list[str]) -> Iterator[Offer]:
        """Installed packages whose best version was built from the same source as this one: apt upgrades them too."""
        if self._siblings is None:
            self._siblings = {}
            for name, version in self.present.items():
                best = self.offers.package(name)
                if best and best.version != version and name not in self.held:
                    self._siblings.setdefault(_source(best), []).append(best)
        for sibling in self._siblings.get(_source(offer), ()):
            if sibling.name not in chosen and sibling.name not in removed and self._complete(sibling):
                chosen[sibling.name] = sibling
                yield sibling

    def _orphaned(self, chosen: dict[str, Offer], removed: list[str]) -> list[str]:
        """Installed packages that lose what they depend on, and go with it."""
        offers = {(offer.name, offer.version): offer for offer in self._offers}
        gone: list[str] = []
        while True:
            possible = [
                name
                for name, version in self.present.items()
                if name not in (*removed, *gone)
                and name not in chosen
                and (offer := offers.get((name, version)))
                and self._loses(offer, chosen, [*removed, *gone])
            ]
            if not possible:
                return gone
            gone += possible

    def _loses(self, offer: Offer, chosen: dict[str, Offer], gone: list[str]) -> bool:
        """Whether something that an installed package depends on, and has, is there no longer."""
        return any(
            not any(self._holds(relation, chosen, gone) for relation in group)
            and any(self._holds(relation, {}, ()) for relation in group)
            for group in self.of.relations(offer.pre_depends) + self.of.relations(offer.depends)
        )

    def _lack(self, offer: Offer, group: list[Relation]) -> str:
        words = f"{offer.name} depends on {' | '.join(relation.name for relation in group)}"
        others = (
            offer
            for offer in self._offers
            for wanted in group
            if offer.name == wanted.name and self.of.fits(offer.version, wanted)
        )
        other = next(others, None)
        if other is None:
            return words
        why = (
            "it is held at another version"
            if other.name in self.held
            else "is preferred less than the version that does not"
        )
        return f"{words}: {other.name} {other.version} of {other.source} would do, but {why}"

    def _complete(self, offer: Offer) -> bool:
        """Whether everything a package depends on can be had."""
        known = self._whole.get((offer.name, offer.version))
        if known is None:
            self._whole[offer.name, offer.version] = True  # while it is looked into, in case it depends on itself
            known = all(
                any(self._holds(relation, {}, ()) or self._available(relation) for relation in group)
                for group in self.of.relations(offer.pre_depends) + self.of.relations(offer.depends)
            )
            self._whole[offer.name, offer.version] = known
        return known

    def _available(self, relation: Relation) -> bool:
        """Whether something on offer fulfils it, whatever that in turn depends on."""
        offer = self.offers.package(relation.name)
        if offer is not None and relation.name not in self.held and self.of.fits(offer.version, relation):
            return True
        return any(
            given(self.of, dict(provides(offer.provides))[relation.name], relation)
            for offer in self._providing(relation.name)
        )

    def _providing(self, name: str) -> list[Offer]:
        if self._providers is None:
            self._providers = {}
            for package in dict.fromkeys(offer.name for offer in self._offers):
                offered = self.offers.package(package)
                for given in provided(offered.provides) if offered else ():
                    self._providers.setdefault(given, []).append(offered)  # type: ignore[arg-type]
        return self._providers.get(name, [])

    def _conflicts(self, offer: Offer, chosen: dict[str, Offer], removed: list[str]) -> Iterator[Offer]:
        """Installed packages that cannot stay beside this one are brought to another version, or go."""
        for group in self.of.relations(offer.conflicts):
            for relation in group:
                version = self.present.get(relation.name)
                if version is not None and relation.name not in chosen and relation.name not in removed:
                    if relation.name != offer.name and self.of.fits(version, relation):
                        newer = self.offers.package(relation.name)
                        if newer and newer.version != version and not self.of.fits(newer.version, relation):
                            chosen[newer.name] = newer
                            yield newer
                        else:
                            removed.append(relation.name)
                elif relation.version is None and version is None:
                    given = (name for name, names in self._given.items() if relation.name in names)
                    removed += [n for n in given if n not in (offer.name, *chosen, *removed)]

    def _holds(self, relation: Relation, chosen: dict[str, Offer], removed: Iterable[str]) -> bool:
        name = relation.name
        version = chosen[name].version if name in chosen else None if name in removed else self.present.get(name)
        if version is not None and self.of.fits(version, relation):
            return True
        provided_by = [names for giver, names in self._given.items() if giver not in chosen and giver not in removed]
        provided_by += [dict(provides(offer.provides)) for offer in chosen.values() if name in offer.provides]
        return any(name in names and given(self.of, names[name], relation) for names in provided_by)

    def _supply(self, relation: Relation, wanting: Offer) -> Offer | None:
        offer = self.offers.package(relation.name)
        real = None
        if (
            offer is not None
            and relation.name not in (*self.held, *self._avoided)
            and self.of.fits(offer.version, relation)
        ):
            if self._complete(offer):
                return offer
            real = offer  # what it depends on cannot be had: better one that provides it
        fitting = [
            offer
            for offer in self._providing(relation.name)
            if offer.name not in self._avoided
            and given(self.of, dict(provides(offer.provides))[relation.name], relation)
        ]
        # Of several providers the one whose name begins like that of the package that asks: apt looks at the source.
        return min(fitting, key=lambda package: (-_alike(package.name, wanting.name), package.name), default=real)


def _source(offer: Offer) -> str:
    return offer.built_from or f"{offer.name} {offer.version}"


def _alike(first: str, second: str) -> int:
    return next(
        (at for at, (a, b) in enumerate(zip(first, second, strict=False)) if a != b), min(len(first), len(second))
    )
