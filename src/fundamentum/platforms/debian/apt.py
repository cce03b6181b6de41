"""Offers: what the package indexes on disk say can be installed, as far as it has to do with PHP."""

import re
from collections.abc import Collection, Iterable
from typing import Final

import msgspec

from fundamentum.hosts.base import Host, HostError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.packages import Offer, Repository
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_version, scrubbed
from fundamentum.platforms.debian import apt_pins, control, kept_offers
from fundamentum.platforms.debian.apt_pins import Pins, shyness
from fundamentum.untrusted.budget import Budget
from fundamentum.untrusted.decompress import unpack
from fundamentum.untrusted.numbers import whole

LISTS: Final = "/var/lib/apt/lists"
MAX_RELEASE: Final = 8 * 1024 * 1024
MAX_OFFERS: Final = 20_000
"""Ten times what a release has that concerns PHP, with all that it depends on."""
MAX_STANZAS: Final = 64 * 1024 * 1024
"""Bytes of their descriptions."""
_INDEX: Final = lazy_regex(
    r"(?P<dist>.+)_(?P<component>[^_]+)_binary-(?P<arch>[^_]+)_Packages(?P<packing>\.gz|\.xz|\.lz4)?"
)
_FLAT: Final = lazy_regex(r"(?P<dist>.+?)_Packages(?P<packing>\.gz|\.xz|\.lz4)?")
_PHP: Final = lazy_regex(rb"php\d|libapache2-mod-php\d|libphp\d|php-common$")


class _List(msgspec.Struct, frozen=True):
    """One package index and the repository it is of."""

    repository: Repository
    data: control.Bytes
    site: str
    shy: int | None


def probe(
    host: Host, architecture: str, also: Collection[str] = (), siblings: Collection[str] = ()
) -> tuple[tuple[Offer, ...] | None, list[Repository], list[Remark]]:
    """The packages of all indexes that concern PHP, with everything they could draw in, and the repositories.

    No text of an offer can steer anything.

    Packages named in ``also`` are taken too, and of ``siblings`` those that were built from the same source, in the
    same version, as one that is taken.

    None where there is no index at all.  Source: apt's naming of its list files; Debian's repository format.
    """
    remarks: list[Remark] = []
    indexes: list[_List] = []
    try:
        names = host.names(LISTS)
    except HostError as error:
        return None, [], [Remark("package indexes", f"{error}: what could be installed is unknown")]
    pins, said = apt_pins.probe(host)
    key = kept_offers.key_of(
        host, [f"{LISTS}/{name}" for name in names], pins, architecture, sorted(also), sorted(siblings)
    )
    if known := kept_offers.recall(key):
        return known.offers, known.repositories, said
    for name in names:
        match = _INDEX.fullmatch(name) or _FLAT.fullmatch(name)
        if match and (not architecture or match.groupdict().get("arch", "all") in (architecture, "all")):
            indexes.append(_list(host, match, remarks))
    if not indexes:
        why = f"none in {LISTS}: what could be installed is unknown; run apt-get update"
        return None, [], [*remarks, Remark("package indexes", why)]
    offers = scrubbed(tuple(_relevant(indexes, pins, remarks, also, host.budget, siblings)))
    repositories = list(dict.fromkeys(index.repository for index in indexes))
    kept_offers.remember(key, kept_offers.KeptOffers(offers, repositories, remarks))
    return offers, repositories, [*remarks, *said]


def _list(host: Host, match: re.Match[str], remarks: list[Remark]) -> _List:
    """One index, as far as it can be read."""
    path = f"{LISTS}/{match.group()}"
    packing = match["packing"] or ""
    data, problem = _unpacked(host, path, packing)
    component = match.groupdict().get("component", "")
    release, listed = _release(host, match["dist"], component, match.groupdict().get("arch", ""), remarks)
    size = len(data) if packing else host.whole_size(path, len(data))
    if problem is None and listed is not None and listed != size:
        problem = f"holds {size} bytes where its release file says {listed}"
    if problem:
        remarks.append(Remark("package indexes", f"{path}: {problem}; packages after that point are unknown"))
        data = data[: data.rfind(b"\n\n") + 1]
    site = match["dist"].partition("_")[0]
    about = host.stat(path)
    fetched = int(about.modified) if about and host.live else None
    return _List(msgspec.structs.replace(repository(release, component), fetched=fetched), data, site, shyness(release))


def _relevant(
    indexes: list[_List],
    pins: Pins,
    remarks: list[Remark],
    also: Collection[str],
    budget: Budget,
    siblings: Collection[str] = (),
) -> Iterable[Offer]:
    """Packages named for a PHP branch or tied to one by ``phpapi-*``, those named, and whatever they depend on.

    What these first ones recommend is taken too: a plan may name it.
    """
    tables = [(listed, control.Index(listed.data, b"php")) for listed in indexes]
    bad = next((f"{listed.repository.name}: larger than any index" for listed, table in tables if table.cut), None)
    left = MAX_STANZAS
    wanted = {name for _, table in tables for name in table.marked if _concerns_php(name, table)}
    wanted |= {name.encode() for name in also}
    offers: dict[tuple[str, str, str], Offer] = {}
    seen: set[bytes] = set()
    asked: set[bytes] = set()
    groups: dict[str, list[bytes]] = {}
    first = True
    while wanted:
        seen |= wanted
        following: set[bytes] = set()
        for index, table in tables:
            source = index.repository.name
            for stanza in (stanza for name in wanted for stanza in table.stanzas(name)):
                left -= len(stanza)
                if left < 0 or len(offers) >= MAX_OFFERS:
                    bad = bad or f"{source}: more packages than any index has that concern PHP"
                    break
                budget.tick()
                offer = _offer(stanza, index, pins)
                if offer is None:
                    bad = bad or f"{source}: {stanza[:60].strip().split(bytes([10]))[0].decode('utf-8', 'replace')}"
                    continue
                key = (offer.name, offer.version, offer.source)
                if key not in offers or offers[key].priority < offer.priority:
                    offers[key] = offer
                for field in (offer.depends, offer.pre_depends, offer.recommends if first else ""):
                    for group in field.split(",") if field else ():
                        if group not in groups:
                            groups[group] = [name.encode() for name in control.names_in(group)]
                            following.update(groups[group])
        first = False
        wanted = following - seen if left >= 0 else set()
        if not wanted and left >= 0 and (names := _unsupplied(groups.values(), tables) - asked):
            asked |= names  # no package of that name: those that provide it
            wanted = set().union(*(table.providing(names) for _, table in tables)) - seen
        if not wanted and left >= 0:
            wanted = _of_one_source(siblings, offers.values(), [table for _, table in tables]) - seen
    if bad:
        remarks.append(
            Remark("package indexes", f"{bad}: no readable text, or an odd version: what is there is unknown")
        )
    return (offers[key] for key in sorted(offers))


def _unsupplied(groups: Iterable[list[bytes]], tables: list[tuple[_List, control.Index]]) -> set[bytes]:
    """The names in those groups of alternatives of which none is a package."""
    return {
        name
        for group in groups
        if not any(wished in table for wished in group for _, table in tables)
        for name in group
    }


def _of_one_source(names: Iterable[str], offers: Iterable[Offer], tables: list[control.Index]) -> set[bytes]:
    """Those of the packages of which an index has a version built from the same source as one of the offers."""
    sources = {offer.built_from or f"{offer.name} {offer.version}" for offer in offers} if names else set()
    found = set()
    for name in map(str.encode, names):
        stanzas = (stanza for table in tables for stanza in table.stanzas(name))
        if any(control.source_of(stanza) in sources for stanza in stanzas):
            found.add(name)
    return found


def release_fields(data: bytes) -> dict[str, str]:
    """What a release file says of its repository."""
    return control.fields(data)


def offers_in(data: bytes, of: Repository, architecture: str, also: Collection[str] = ()) -> list[Offer]:
    """The packages of one index that concern PHP, with everything they could draw in, for that architecture."""
    remarks: list[Remark] = []
    offers = _relevant([_List(of, data, "", None)], Pins(), remarks, also, Budget())
    return [offer for offer in offers if not architecture or offer.architecture in (architecture, "all")]


def _concerns_php(name: bytes, table: control.Index) -> bool:
    """By its name, or by an API it is tied to.  Debian's PHP policy has "php" in the name of all that are."""
    return _PHP.match(name) is not None or any(b"phpapi-" in stanza for stanza in table.stanzas(name))


def _offer(stanza: bytes, index: _List, pins: Pins) -> Offer | None:
    try:
        entry = control.fields(stanza, "strict")
    except UnicodeDecodeError:
        return None
    if not control.PACKAGE_NAME.fullmatch(entry.get("Package", "")) or not is_version(entry.get("Version", "")):
        return None
    return Offer(
        name=entry["Package"],
        version=entry["Version"],
        source=index.repository.name,
        architecture=entry.get("Architecture", ""),
        provides=entry.get("Provides", ""),
        depends=entry.get("Depends", ""),
        pre_depends=entry.get("Pre-Depends", ""),
        recommends=entry.get("Recommends", ""),
        conflicts=", ".join(filter(None, (entry.get("Conflicts"), entry.get("Breaks")))),
        built_from=control.built_from(entry),
        section=entry.get("Section", ""),
        size=whole(entry.get("Size", "")) or 0,
        space=(whole(entry.get("Installed-Size", "")) or 0) * 1024,
        priority=pins.priority(entry["Package"], entry["Version"], index.repository, index.site, index.shy),
    )


def _unpacked(host: Host, path: str, packing: str) -> tuple[control.Bytes, str | None]:
    """The bytes of an index as far as they can be had, and what is wrong with the rest."""
    try:
        packed = host.view(path) or b""
    except HostError as error:
        return b"", str(error).removeprefix(f"{path}: ")
    data: control.Bytes = packed
    problem = None
    if packing:
        data, problem = unpack(packed, packing)
        try:
            host.budget.keep(len(data))
        except HostError as error:
            return b"", str(error)
    if problem is None and len(data) and data[-1:] != b"\n":
        problem = "breaks off in the middle of a line"
    return data, problem


def _release(
    host: Host, dist: str, component: str, arch: str, remarks: list[Remark]
) -> tuple[dict[str, str], int | None]:
    """What the repository says of itself, and the size it gives for this index."""
    for suffix in ("_InRelease", "_Release"):
        try:
            data = host.read(f"{LISTS}/{dist}{suffix}", MAX_RELEASE)
        except HostError as error:
            remarks.append(Remark("package indexes", str(error)))
            continue
        if data is None:
            continue
        size = re.search(
            rb"\n [0-9a-f]{64} +(\d+) " + re.escape(f"{component}/binary-{arch}/Packages".encode()) + rb"\n", data
        )
        return control.fields(data[:4096]), whole(size[1].decode()) if size else None
    return {}, None


def repository(release: dict[str, str], component: str) -> Repository:
    origin, label = release.get("Origin", ""), release.get("Label", "")
    suite, codename = release.get("Suite", ""), release.get("Codename", "")
    who = label or origin or ("" if codename or suite else "unnamed repository")
    words = " ".join(part for part in (who, "/".join(p for p in (codename or suite, component) if p)) if part)
    return Repository(words or "unnamed repository", origin, label, suite, codename, component)
