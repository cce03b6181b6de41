"""Offers: what the package indexes on disk say can be installed, as far as it has to do with PHP."""

import lzma
import re
import zlib
from collections.abc import Callable, Iterable
from typing import Any, Final, Protocol, cast

from fundamentum.server import control
from fundamentum.server.hosts import Host, HostError
from fundamentum.server.model import Offer, Remark

LISTS: Final = "/var/lib/apt/lists"
MAX_UNPACKED: Final = 512 * 1024 * 1024
_INDEX: Final = re.compile(
    r"(?P<dist>.+)_(?P<component>[^_]+)_binary-(?P<arch>[^_]+)_Packages(?P<packing>\.gz|\.xz|\.lz4)?"
)
_FLAT: Final = re.compile(r"(?P<dist>.+?)_Packages(?P<packing>\.gz|\.xz|\.lz4)?")
_PHP: Final = re.compile(rb"php\d|libapache2-mod-php\d|libphp\d|php-common$")


class _Decompressor(Protocol):
    def decompress(self, data: bytes, max_length: int = -1) -> bytes: ...


def probe(host: Host, architecture: str) -> tuple[tuple[Offer, ...] | None, list[Remark]]:
    """The packages of all indexes that concern PHP, with everything they could draw in.

    None where there is no index at all.  Source: apt's naming of its list files; Debian's repository format.
    """
    remarks: list[Remark] = []
    indexes: list[tuple[str, control.Bytes]] = []
    try:
        names = host.names(LISTS)
    except HostError as error:
        return None, [Remark("package indexes", f"{error}: what could be installed is unknown")]
    for name in names:
        match = _INDEX.fullmatch(name) or _FLAT.fullmatch(name)
        if not match or (architecture and match.groupdict().get("arch", "all") not in (architecture, "all")):
            continue
        data, problem = _unpacked(host, f"{LISTS}/{name}", match["packing"] or "")
        source, listed = _release(
            host, match["dist"], match.groupdict().get("component", ""), match.groupdict().get("arch", ""), remarks
        )
        if problem is None and listed is not None and listed != len(data):
            problem = f"holds {len(data)} bytes where its release file says {listed}"
        if problem:
            remarks.append(
                Remark("package indexes", f"{LISTS}/{name}: {problem}; packages after that point are unknown")
            )
            data = data[: data.rfind(b"\n\n") + 1]
        indexes.append((source, data))
    if not indexes:
        return None, [
            *remarks,
            Remark("package indexes", f"none in {LISTS}: what could be installed is unknown; run apt-get update"),
        ]
    return tuple(_relevant(indexes, remarks)), remarks


def _relevant(indexes: list[tuple[str, control.Bytes]], remarks: list[Remark]) -> Iterable[Offer]:
    """Packages named for a PHP branch or tied to one by ``phpapi-*``, and whatever those depend on."""
    tables = [(source, control.Index(data, b"php")) for source, data in indexes]
    bad: str | None = None
    wanted = {name for _, table in tables for name in table.marked if _concerns_php(name, table)}
    found: dict[tuple[str, str, str], Offer] = {}
    seen: set[bytes] = set()
    while wanted:
        seen |= wanted
        following: set[bytes] = set()
        for source, table in tables:
            for stanza in (stanza for name in wanted for stanza in table.stanzas(name)):
                offer = _offer(stanza, source)
                if offer is None:
                    bad = bad or f"{source}: {stanza[:60].strip().split(bytes([10]))[0].decode('utf-8', 'replace')}"
                    continue
                found.setdefault((offer.name, offer.version, offer.source), offer)
                following |= {n.encode() for n in control.names_in(f"{offer.depends}, {offer.pre_depends}")}
        wanted = following - seen
    if bad:
        remarks.append(Remark("package indexes", f"{bad}: a stanza that is no readable text; that package is unknown"))
    return (found[key] for key in sorted(found))


def _concerns_php(name: bytes, table: control.Index) -> bool:
    """By its name, or by an API it is tied to.  Debian's PHP policy has "php" in the name of all that are."""
    return _PHP.match(name) is not None or any(b"phpapi-" in stanza for stanza in table.stanzas(name))


def _offer(stanza: bytes, source: str) -> Offer | None:
    try:
        entry = control.fields(stanza, "strict")
    except UnicodeDecodeError:
        return None
    if not control.PACKAGE_NAME.fullmatch(entry.get("Package", "")) or not entry.get("Version"):
        return None
    return Offer(
        name=entry["Package"],
        version=entry["Version"],
        source=source,
        architecture=entry.get("Architecture", ""),
        provides=entry.get("Provides", ""),
        depends=entry.get("Depends", ""),
        pre_depends=entry.get("Pre-Depends", ""),
        section=entry.get("Section", ""),
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
        data, problem = unpack(packed[:], packing)
    if problem is None and len(data) and data[-1:] != b"\n":
        problem = "breaks off in the middle of a line"
    return data, problem


def unpack(packed: bytes, packing: str) -> tuple[bytes, str | None]:
    """Decompress ``.gz``, ``.xz`` or ``.lz4`` with a bound on the size; keeps what came before an error."""
    makers: dict[str, Callable[[], Any]] = {
        ".gz": lambda: zlib.decompressobj(31),
        ".xz": lzma.LZMADecompressor,
        ".lz4": _lz4,
    }
    machine = cast(_Decompressor, makers[packing]())
    out = bytearray()
    step = 1024 * 1024
    try:
        for at in range(0, len(packed), step):
            out += (
                machine.decompress(packed[at : at + step], MAX_UNPACKED - len(out)) if len(out) < MAX_UNPACKED else b""
            )
    except (OSError, EOFError, RuntimeError, zlib.error, lzma.LZMAError, ValueError) as error:
        return bytes(out), f"cannot be decompressed beyond byte {len(out)} ({error})"
    if len(out) >= MAX_UNPACKED:
        return bytes(out), f"is larger than {MAX_UNPACKED} bytes"
    if not getattr(machine, "eof", True):
        return bytes(out), "breaks off before its end"
    return bytes(out), None


def _lz4() -> object:
    import lz4.frame  # noqa: PLC0415 — only where an index is packed this way

    return lz4.frame.LZ4FrameDecompressor()


def _release(host: Host, dist: str, component: str, arch: str, remarks: list[Remark]) -> tuple[str, int | None]:
    """The repository in words, and the size its release file gives for this index."""
    for suffix in ("_InRelease", "_Release"):
        try:
            data = host.read(f"{LISTS}/{dist}{suffix}", 8 * 1024 * 1024)
        except HostError as error:
            remarks.append(Remark("package indexes", str(error)))
            continue
        if data is None:
            continue
        entry = control.fields(data[:4096])
        label = entry.get("Label") or entry.get("Origin") or ""
        suite = entry.get("Codename") or entry.get("Suite") or ""
        size = re.search(
            rb"\n [0-9a-f]{64} +(\d+) " + re.escape(f"{component}/binary-{arch}/Packages".encode()) + rb"\n", data
        )
        words = " ".join(part for part in (label, "/".join(p for p in (suite, component) if p)) if part)
        return words or "unnamed repository", int(size[1]) if size else None
    return "/".join(p for p in ("unnamed repository", component) if p), None
