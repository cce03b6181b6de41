"""Offers of an RHEL-family system: the repository metadata in dnf's cache, with module streams."""

import posixpath
import re
from collections.abc import Collection, Iterable, Iterator
from typing import Any, Final

import msgspec
from lxml import etree

from fundamentum.hosts.base import Host, HostError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.packages import Offer, Repository
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_version
from fundamentum.platforms.redhat.dnf_modules import MAX_NAME, Modules, read_modules
from fundamentum.platforms.redhat.dnf_sources import CACHES, DEFAULT_PRIORITY, Source, configured
from fundamentum.platforms.redhat.rpm import PACKAGE_NAME
from fundamentum.untrusted import name_patterns
from fundamentum.untrusted.budget import Budget
from fundamentum.untrusted.decompress import BadPacking, pieces, unpack
from fundamentum.untrusted.xml import BadXml, parsed

DEFAULT: Final = 500
MAX_MODULES: Final = 32 * 1024 * 1024
"""Bytes of a repository's module documents."""
MAX_PACKAGE: Final = 4 * 1024 * 1024
"""Bytes of one package's entry."""
MAX_CAPABILITIES: Final = 1_500_000
MAX_OFFERS: Final = 20_000
_FED: Final = 64 * 1024
_COMMON: Final = "{http://linux.duke.edu/metadata/common}"
_RPM: Final = "{http://linux.duke.edu/metadata/rpm}"
_REPO: Final = "{http://linux.duke.edu/metadata/repo}"
_PACKING: Final = lazy_regex(r"\.(gz|xz|bz2|zst)$")
_SIGNS: Final = {"LT": "<<", "LE": "<=", "EQ": "=", "GE": ">=", "GT": ">>"}


class _Wanted(msgspec.Struct, frozen=True):
    """Packages that are looked for beside those that concern PHP."""

    names: Collection[str] = ()
    programs: Collection[str] = ()

    def brought(self, files: Iterable[str]) -> list[str]:
        """Those of a package's files that are programs looked for."""
        return [
            path
            for path in files
            if path.startswith(("/usr/bin/", "/usr/sbin/")) and posixpath.basename(path) in self.programs
        ]


def probe(
    host: Host,
    architecture: str,
    provided: Iterable[str] = (),
    also: Collection[str] = (),
    programs: Collection[str] = (),
) -> tuple[tuple[Offer, ...] | None, list[Repository], list[Remark]]:
    """The packages of all configured repositories that concern PHP.  ``provided`` is what installed packages provide.

    Packages named in ``also``, and those that bring one of the ``programs``, are taken too.

    Source: dnf.conf(5), the layout of dnf's cache, the rpm metadata format, and dnf's documentation of modularity:
    packages of streams that are not switched on are not seen, nor are others of the same name as those of one that is.
    """
    remarks: list[Remark] = []
    sources = [source for source in configured(host, remarks) if source.folder]
    if not sources:
        why = f"none in {' or '.join(CACHES)}: what could be installed is unknown; run dnf makecache"
        return None, [], [*remarks, Remark("package indexes", why)]
    read = [(source, *_metadata(host, source, remarks)) for source in sources]
    modules = read_modules(host, [document for _, _, documents in read for document in documents])
    offers: dict[tuple[str, str, str, str], Offer] = {}
    capabilities = set(provided)
    for source, packages, _ in read:
        looked_for = _Wanted(also, programs)
        for offer in _packages(packages, source, architecture, modules, capabilities, remarks, looked_for, host.budget):
            offers.setdefault((offer.name, offer.version, offer.source, offer.architecture), offer)
    offers = {key: _obtainable(offer, capabilities) for key, offer in offers.items()}
    repositories = [Repository(source.name, label=source.name, suite=source.id) for source in sources]
    return tuple(offers[key] for key in sorted(offers)), repositories, remarks


def offers_in(
    host: Host,
    folder: str,
    name: str,
    architecture: str,
    also: Collection[str] = (),
    programs: Collection[str] = (),
) -> list[Offer]:
    """The packages of one repository that concern PHP; of modules, those of default streams count."""
    remarks: list[Remark] = []
    source = Source(name, name, DEFAULT_PRIORITY, (), False, folder)
    packages, documents = _metadata(host, source, remarks)
    modules = read_modules(host, documents)
    looked_for = _Wanted(also, programs)
    return list(_packages(packages, source, architecture, modules, set(), remarks, looked_for, host.budget))


class _Packed(msgspec.Struct, frozen=True):
    """A file of metadata as it lies in the cache, and how it is packed."""

    data: bytes = b""
    packing: str = ""


def _metadata(host: Host, source: Source, remarks: list[Remark]) -> tuple[_Packed, list[bytes]]:
    """The list of packages, still packed, and the module documents that speak of PHP."""
    folder = source.folder or ""
    files: dict[str, _Packed] = {}
    try:
        names = _locations(host.read(f"{folder}/repomd.xml", 8 * 1024 * 1024) or b"")
        for kind in ("primary", "modules"):
            path = posixpath.join(folder, posixpath.basename(names.get(kind, "")))
            if kind not in names:
                continue
            packing = _PACKING.search(path)
            data = host.read(path) or b""
            host.budget.keep(len(data))
            files[kind] = _Packed(data, f".{packing[1]}" if packing else "")
            if not data:
                why = f"{path}: is not in the cache; packages after that point are unknown"
                remarks.append(Remark("package indexes", why))
    except HostError as error:
        remarks.append(Remark("package indexes", str(error)))
    packed = files.get("modules", _Packed())
    modules, problem = unpack(packed.data, packed.packing, MAX_MODULES)
    if problem:
        remarks.append(Remark("package indexes", f"{source.name}: its modules: {problem}; they are unknown from there"))
    documents = re.split(rb"^---[^\n]*$", modules, flags=re.M)
    return files.get("primary", _Packed()), [document for document in documents if b"php" in document]


def _locations(data: bytes) -> dict[str, str]:
    """Kind of metadata → file name, from ``repomd.xml``."""
    try:
        root = parsed(data, 20_000)
    except BadXml:
        return {}
    locations = {}
    for element in root.iter(f"{_REPO}data"):
        place = element.find(f"{_REPO}location")
        if place is not None:
            locations[str(element.get("type"))] = str(place.get("href"))
    return locations


def _packages(
    packed: _Packed,
    source: Source,
    architecture: str,
    modules: Modules,
    capabilities: set[str],
    remarks: list[Remark],
    wanted: "_Wanted",
    budget: Budget,
) -> Iterator[Offer]:
    """The packages that concern PHP.  What any package provides is added to ``capabilities``."""
    problem = ""
    number = 0
    try:
        for element in _elements(packed, budget):
            offer = _offer(element, source, modules, wanted)
            names = (
                entry.get("name", "")[:MAX_NAME]
                for entry in element.iterfind(f"{{*}}format/{_RPM}provides/{_RPM}entry")
            )
            capabilities.update(names)
            if len(capabilities) > MAX_CAPABILITIES or number > MAX_OFFERS:
                raise BadXml("more packages than any repository has")
            if offer and (not architecture or offer.architecture in (architecture, "noarch")):
                number += 1
                yield offer
    except (BadXml, BadPacking, HostError) as error:
        problem = str(error)
    if problem and packed.data:
        why = f"{source.name}: {problem}; packages after that point are unknown"
        remarks.append(Remark("package indexes", why))


def _elements(packed: _Packed, budget: Budget) -> Iterator[Any]:
    """Every package of a list, one at a time: the whole list would take ten times its size in memory."""
    parser = etree.XMLPullParser(("end",), tag=f"{_COMMON}package", resolve_entities=False, no_network=True)
    since = 0
    try:
        for piece in pieces(packed.data, packed.packing):
            for start in range(0, len(piece), _FED):
                budget.tick()
                parser.feed(piece[start : start + _FED])
                since += _FED
                for _, element in parser.read_events():
                    since = 0
                    yield element
                    element.clear()
                    while element.getprevious() is not None:
                        del element.getparent()[0]
                if since > MAX_PACKAGE:
                    raise BadXml("a package without an end")
        parser.close()
    except etree.XMLSyntaxError as error:
        raise BadXml(error.msg or "cannot be read") from error


def _offer(element: Any, source: Source, modules: Modules, wanted: "_Wanted") -> Offer | None:
    name, arch = element.findtext(f"{_COMMON}name") or "", element.findtext(f"{_COMMON}arch") or ""
    about = element.find(f"{_COMMON}version")
    form = element.find(f"{_COMMON}format")
    if about is None or form is None or arch == "src" or not PACKAGE_NAME.fullmatch(name):
        return None
    provides = [entry for entry in form.iterfind(f"{_RPM}provides/{_RPM}entry") if "php" in entry.get("name", "")]
    requires = list(form.iterfind(f"{_RPM}requires/{_RPM}entry"))
    brings = wanted.brought(entry.text or "" for entry in form.iterfind(f"{_COMMON}file")) if wanted.programs else []
    if "php" not in name and not provides and name not in wanted.names and not brings:
        return None
    epoch, version, release = about.get("epoch") or "0", about.get("ver") or "", about.get("rel") or ""
    if not is_version(f"{epoch}:{version}-{release}"):
        return None
    evr = f"{epoch + ':' if epoch != '0' else ''}{version}-{release}"
    stream = modules.streams.get(f"{name}-{epoch}:{version}-{release}.{arch}", "")
    return Offer(
        name=name,
        version=evr,
        source=source.name,
        architecture=arch,
        provides=", ".join([*filter(None, map(_relation, provides)), *brings]),
        depends=", ".join(filter(None, map(_relation, requires))),
        priority=DEFAULT + DEFAULT_PRIORITY - source.priority,  # to dnf, a lower number is the better one
        stream=stream,
        shut_out=_shut_out(name, evr, stream, source, modules),
    )


def _obtainable(offer: Offer, capabilities: set[str]) -> Offer:
    """The offer, shut out if it depends on something that nothing here provides.

    Only names are compared; files and conditional dependencies are taken as there.
    """
    for group in offer.depends.split(", ") if offer.depends and not offer.shut_out else ():
        name = group.partition(" (")[0]
        if not name.startswith(("/", "(", "rpmlib(")) and name not in capabilities:
            return msgspec.structs.replace(offer, shut_out=f"it needs {name}, which nothing here provides")
    return offer


def _relation(entry: Any) -> str:
    """One capability in the notation of a Debian control field."""
    name, version = entry.get("name", ""), entry.get("ver") or ""
    if entry.get("rel"):
        version += f"-{entry.get('rel')}"
    if any(not c.isprintable() or c in ",|" for c in name + version):
        return ""
    sign = _SIGNS.get(entry.get("flags", ""), "")
    return f"{name} ({sign} {version})" if sign and version else name


def _shut_out(name: str, evr: str, stream: str, source: Source, modules: Modules) -> str:
    if any(
        name_patterns.fits(name_or_version, pattern)
        for pattern in source.excluded
        for name_or_version in (name, f"{name}-{evr}")
    ):
        return "excluded by the package manager's configuration"
    if source.hotfixes:
        return ""
    module, _, wanted = stream.partition(":")
    if stream and modules.active.get(module) != wanted:
        return f"its module stream {stream} is not switched on"
    claimed = modules.names.get(name)
    if not stream and claimed:
        return f"the module stream {claimed} takes its place"
    return ""
