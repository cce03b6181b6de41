"""Installed packages of an RHEL-family system: asked of its own ``rpm``, or read from the database itself."""

import re
import struct
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Final

import msgspec

from fundamentum.server.hosts import Host, HostError, Question
from fundamentum.server.model import Installed, Remark

FOLDERS: Final = ("/usr/lib/sysimage/rpm", "/var/lib/rpm")
SQLITE: Final = "rpmdb.sqlite"
OLD: Final = ("Packages", "Packages.db")
PACKAGE_NAME: Final = re.compile(r"[A-Za-z0-9][A-Za-z0-9+._-]*")
MAX_TAGS: Final = 10_000
MAX_TEXTS: Final = 200_000
_FIELD, _ITEM, _PACKAGE = "\t", "\v", "\f\n"
_HEAD: Final = r"%{NAME}\t%|EPOCH?{%{EPOCH}}|\t%{VERSION}\t%{RELEASE}\t%{ARCH}\t"
_PROVIDES: Final = r"[%{PROVIDENAME}\v%{PROVIDEFLAGS}\v%{PROVIDEVERSION}\v]"
PACKAGES: Final = Question("rpm-packages", ("rpm", "-qa", "--qf", _HEAD + _PROVIDES + r"\t\f\n"))
FILES: Final = Question("rpm-files", ("rpm", "-qa", "*php*", "--qf", _HEAD + r"\t[%{FILENAMES}\v]\f\n"))
OWNERS: Final = ("rpm", "-qf", "--qf", _HEAD + r"\t[%{FILENAMES}\v]\f\n")
"""Tabs and the like stand between the fields: package names and paths hold anything else."""
NAME, VERSION, RELEASE, EPOCH, ARCH = 1000, 1001, 1002, 1003, 1022
PROVIDENAME, PROVIDEFLAGS, PROVIDEVERSION = 1047, 1112, 1113
BASENAMES, DIRNAMES, DIRINDEXES = 1117, 1118, 1116
LESS, GREATER, EQUAL = 2, 4, 8


class Package(msgspec.Struct):
    """One package of the database."""

    name: str
    epoch: str
    version: str
    release: str
    architecture: str
    provides: list[tuple[str, int, str]]
    files: list[str]

    @property
    def evr(self) -> str:
        """``EPOCH:VERSION-RELEASE``, as dnf writes it."""
        return f"{self.epoch + ':' if self.epoch not in ('', '0') else ''}{self.version}-{self.release}"


class Database(msgspec.Struct):
    """What the database holds, as far as it is used here."""

    packages: tuple[Installed, ...] | None
    owners: dict[str, str]
    architecture: str
    capabilities: set[str]
    remarks: list[Remark]


def database(host: Host) -> str | None:
    """The path of the package database; None if there is none."""
    paths = (f"{folder}/{name}" for folder in FOLDERS for name in (SQLITE, *OLD))
    return next((path for path in paths if host.stat(path)), None)


def probe(host: Host, directories: tuple[str, ...], programs: Sequence[str] = ()) -> Database:
    """The installed packages, and which of them owns each file below one of the directories, and each program."""
    path = database(host) or ""
    try:
        packages, files = host.answer(PACKAGES), host.answer(FILES)
        found = list(_answered(packages)) if packages is not None else list(_stored(host, path))
        asked = Question("rpm-owners", (*OWNERS, *programs), lenient=True)
        owning = host.answer(asked) if programs and files is not None else None
        holding = found if files is None else [*_answered(files), *_answered(owning or b"")]
    except HostError as error:
        return Database(None, {}, "", set(), [Remark("installed packages", f"{error}: what is installed is unknown")])
    owners = {file: one.name for one in holding for file in one.files if file.startswith((*directories, *programs))}
    machines = [one.architecture for one in found if one.architecture not in ("noarch", "", "(none)")]
    sound = [one for one in found if PACKAGE_NAME.fullmatch(one.name) and one.architecture != "(none)"]
    installed = [Installed(one.name, one.evr, provides_text(one.provides)) for one in sound]
    return Database(
        tuple(sorted(installed, key=lambda one: (one.name, one.version))),
        owners,
        max(sorted(set(machines)), key=machines.count, default=""),
        {name for one in found for name, _, _ in one.provides},
        [],
    )


def provides_text(provides: list[tuple[str, int, str]]) -> str:
    """The capabilities that tell something about PHP, in the notation of a Debian control field."""
    kept = []
    for name, flags, version in dict.fromkeys(provides):
        if "php" in name and all(c.isprintable() and c not in ",|" for c in name + version):
            kept.append(f"{name} ({operator(flags)} {version})" if version and operator(flags) else name)
    return ", ".join(kept)


def operator(flags: int) -> str:
    """``rpmsenseFlags`` as a comparison."""
    sign = {LESS: "<", GREATER: ">"}.get(flags & (LESS | GREATER), "")
    return sign + ("=" if flags & EQUAL else "")


def _answered(answer: bytes) -> Iterator[Package]:
    for record in answer.decode("utf-8", "replace").split(_PACKAGE):
        fields = record.split(_FIELD)
        if len(fields) != 7 or not fields[0]:
            continue
        words = fields[5].split(_ITEM)[:-1]
        provides = [
            (name, int(flags) if flags.isdigit() else 0, version)
            for name, flags, version in zip(words[::3], words[1::3], words[2::3], strict=False)
        ]
        name, epoch, version, release, architecture = fields[:5]
        files = [file for file in fields[6].split(_ITEM) if file]
        yield Package(name, epoch, version, release, architecture, provides, files)


def _stored(host: Host, path: str) -> Iterator[Package]:
    """Every header in the SQLite database.  It is copied first: SQLite wants to write beside what it reads."""
    import sqlite3  # noqa: PLC0415 — for this family only
    import tempfile  # noqa: PLC0415

    if not path.endswith(SQLITE):
        raise HostError(f"{path or 'rpm'}: a database format that only rpm itself reads")
    with tempfile.TemporaryDirectory(prefix="fundamentum-") as folder:
        copy = Path(folder) / SQLITE
        copy.write_bytes(host.read(path) or b"")
        journal = host.read(f"{path}-wal")  # what was written last may stand there alone
        if journal:
            copy.with_name(f"{SQLITE}-wal").write_bytes(journal)
        try:
            connection = sqlite3.connect(copy)
            try:
                for (blob,) in connection.execute("SELECT blob FROM Packages ORDER BY hnum"):
                    if isinstance(blob, bytes) and (package := read_header(blob)):
                        yield package
            finally:
                connection.close()
        except sqlite3.Error as error:
            raise HostError(f"{path}: cannot be read as a database ({error})") from error


def read_header(blob: bytes) -> Package | None:
    """A package header as the database keeps it: two counts, index entries of four numbers, then the data.

    None if it is none.  Source: rpm's documentation of its header format.
    """
    try:
        count, size = struct.unpack_from(">II", blob)
        start = 8 + 16 * count
        if count > MAX_TAGS or start + size > len(blob):
            return None
        entries = struct.iter_unpack(">IIII", blob[8:start])
        store = blob[start : start + size]
        tags = {tag: (kind, offset, number) for tag, kind, offset, number in entries}
        return _package(tags, store)
    except (struct.error, IndexError, UnicodeDecodeError):
        return None


def _package(tags: dict[int, tuple[int, int, int]], store: bytes) -> Package | None:
    def texts(tag: int) -> list[str]:
        kind, offset, number = tags.get(tag, (0, 0, 0))
        if kind not in (6, 8, 9) or number > MAX_TEXTS or offset > len(store):
            return []
        return [part.decode("utf-8", "replace") for part in store[offset:].split(b"\0", number)[:number]]

    def numbers(tag: int) -> list[int]:
        kind, offset, number = tags.get(tag, (0, 0, 0))
        return list(struct.unpack_from(f">{number}I", store, offset)) if kind == 4 and number <= MAX_TEXTS else []

    def first(tag: int) -> str:
        return next(iter(texts(tag)), "")

    if not first(NAME):
        return None
    folders = texts(DIRNAMES)
    pairs = zip(texts(BASENAMES), numbers(DIRINDEXES), strict=False)
    return Package(
        first(NAME),
        str(next(iter(numbers(EPOCH)), "")),
        first(VERSION),
        first(RELEASE),
        first(ARCH),
        list(zip(texts(PROVIDENAME), numbers(PROVIDEFLAGS), texts(PROVIDEVERSION), strict=False)),
        [folders[index] + name for name, index in pairs if index < len(folders)],
    )
