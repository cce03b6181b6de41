"""Installed packages of an RHEL-family system: asked of its own ``rpm``, or read from the database itself."""

import os
import sqlite3
import struct
import tempfile
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Final

import msgspec

from fundamentum.hosts.base import Host, HostError, Question
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.packages import Installed
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_version
from fundamentum.platforms.redhat import DATABASES
from fundamentum.untrusted.numbers import whole

if TYPE_CHECKING:
    import sqlite3

SQLITE: Final = "rpmdb.sqlite"
PACKAGE_NAME: Final = lazy_regex(r"[A-Za-z0-9][A-Za-z0-9+._-]*")
MAX_DATABASE: Final = 512 * 1024 * 1024
"""Bytes; a server with three thousand packages has a fifth of that."""
MAX_HEADER: Final = 32 * 1024 * 1024
"""Bytes of one package's header: that of the kernel's modules has four million."""
MAX_PACKAGES: Final = 50_000
MAX_KEPT: Final = 96 * 1024 * 1024
"""Bytes of names that are kept of all packages."""
MAX_PATH: Final = 4096
PIECE: Final = 1024 * 1024
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
    return next((path for path in DATABASES if host.stat(path)), None)


def probe(host: Host, directories: tuple[str, ...], programs: Sequence[str] = ()) -> Database:
    """The installed packages, and which of them owns each file below one of the directories, and each program."""
    path = database(host) or ""
    try:
        packages, files = host.answer(PACKAGES), host.answer(FILES)
        read = (
            list(_answered(packages)) if packages is not None else list(_stored(host, path, (*directories, *programs)))
        )
        asked = Question("rpm-owners", (*OWNERS, *programs), lenient=True)
        owning = host.answer(asked) if programs and files is not None else None
        holding = read if files is None else [*_answered(files), *_answered(owning or b"")]
    except HostError as error:
        return Database(None, {}, "", set(), [Remark("installed packages", f"{error}: what is installed is unknown")])
    owners = {
        file: package.name
        for package in holding
        for file in package.files
        if file.startswith((*directories, *programs))
    }
    machines = Counter(package.architecture for package in read if package.architecture not in ("noarch", "", "(none)"))
    sound = [
        package
        for package in read
        if PACKAGE_NAME.fullmatch(package.name) and is_version(package.evr) and package.architecture != "(none)"
    ]
    installed = [Installed(package.name, package.evr, provides_text(package.provides)) for package in sound]
    return Database(
        tuple(sorted(installed, key=lambda package: (package.name, package.version))),
        owners,
        max(sorted(machines), key=machines.__getitem__, default=""),
        {name for package in read for name, _, _ in package.provides},
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
            (name, whole(flags) or 0, version)
            for name, flags, version in zip(words[::3], words[1::3], words[2::3], strict=False)
        ]
        name, epoch, version, release, architecture = fields[:5]
        files = [file for file in fields[6].split(_ITEM) if file]
        yield Package(name, epoch, version, release, architecture, provides, files)


def _stored(host: Host, path: str, wanted: tuple[str, ...]) -> Iterator[Package]:
    """Every header in the SQLite database, with those files that begin as ``wanted``.

    The database is copied first: SQLite wants to write beside what it reads.
    """
    if not path.endswith(SQLITE):
        raise HostError(f"{path or 'rpm'}: a database format that only rpm itself reads")
    with tempfile.TemporaryDirectory(prefix="fundamentum-") as folder:
        copy = Path(folder) / SQLITE
        try:
            _copied(host, path, copy)
            _copied(host, f"{path}-wal", copy.with_name(f"{SQLITE}-wal"))  # what was written last may stand there alone
        except OSError as error:
            raise HostError(f"{path}: cannot be copied to {folder}: {error.strerror}") from error
        try:
            connection = sqlite3.connect(copy)
            try:
                yield from _headers(connection, host, wanted)
            finally:
                connection.close()
        except (sqlite3.Error, OverflowError, UnicodeError) as error:  # the last for names that are no text
            raise HostError(f"{path}: cannot be read as a database ({error})") from error


def _copied(host: Host, path: str, target: Path) -> None:
    """The file, piece by piece."""
    stream = host.stream(path)
    if stream is None:
        return
    size = 0
    with stream, target.open("wb") as out:
        while piece := stream.read(PIECE):
            size += len(piece)
            if size > MAX_DATABASE:
                raise HostError(f"{path}: larger than {MAX_DATABASE >> 20} MiB: not read")
            host.budget.read(len(piece))
            if piece.strip(b"\0"):
                out.write(piece)
            else:
                out.seek(len(piece), os.SEEK_CUR)  # what holds nothing takes no place in the copy either
        out.truncate(size)


def _headers(connection: "sqlite3.Connection", host: Host, wanted: tuple[str, ...]) -> Iterator[Package]:
    """The packages of a database that may have been made to keep its reader busy: a view without an end, say."""
    connection.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, MAX_HEADER)
    connection.set_progress_handler(lambda: int(host.budget.left() <= 0), 10_000)
    connection.execute("PRAGMA trusted_schema = OFF")
    connection.execute("PRAGMA cell_size_check = ON")
    tables = connection.execute("SELECT type FROM sqlite_schema WHERE name = 'Packages' AND rootpage > 0").fetchall()
    if tables != [("table",)]:
        raise HostError(f"{SQLITE}: has no table of packages")
    kept = 0
    for number, (blob,) in enumerate(connection.execute("SELECT blob FROM Packages ORDER BY hnum")):
        host.budget.tick()
        if number > MAX_PACKAGES:
            raise HostError(f"{SQLITE}: more than {MAX_PACKAGES:,} packages: not believed")
        if isinstance(blob, bytes) and (package := read_header(blob, wanted)):
            kept += sum(len(name) + len(version) + 100 for name, _, version in package.provides)
            kept += sum(len(file) + 100 for file in package.files)
            if kept > MAX_KEPT:
                raise HostError(f"{SQLITE}: names without end: not believed")
            yield package


def read_header(blob: bytes, wanted: tuple[str, ...] = ("/",)) -> Package | None:
    """A package header as the database keeps it: two counts, index entries of four numbers, then the data.

    Of its files only those that begin as ``wanted`` are taken.

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
        return _package(tags, store, wanted)
    except (struct.error, IndexError, UnicodeDecodeError):
        return None


def _package(tags: dict[int, tuple[int, int, int]], store: bytes, wanted: tuple[str, ...]) -> Package | None:
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
        list(_files(pairs, folders, wanted)),
    )


def _files(pairs: Iterable[tuple[str, int]], folders: list[str], wanted: tuple[str, ...]) -> Iterator[str]:
    for name, index in pairs:
        folder = folders[index] if index < len(folders) else ""
        if folder and len(folder) + len(name) <= MAX_PATH and (path := folder + name).startswith(wanted):
            yield path
