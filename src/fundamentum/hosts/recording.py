"""A server as it was recorded: the archive that the recorder script wrote, read back as a host.

An archive comes from somewhere else and is not trusted: only plain files of the few expected names are taken, each
bounded in size, and nothing in it is ever written to a disk.
"""

import io
import math
import posixpath
import re
import stat as stat_module
from collections.abc import Mapping, Sequence
from typing import BinaryIO, Final, Literal

from fundamentum.hosts.base import MAX_BYTES, Extras, HostError, Question, Stat, Visit
from fundamentum.hosts.processes import DELETED, VARIABLES, Running, seen
from fundamentum.hosts.recording_archive import members_of
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.surrounding_facts import Access, Asked, Grant, Machine
from fundamentum.untrusted.budget import Budget
from fundamentum.untrusted.numbers import whole

MAX_PATHS: Final = 200_000
"""Files and directories that a recording may speak of."""
MAX_PATH: Final = 4096
_GRANT: Final = lazy_regex(r"(?:(user|group):(\d{1,10})|(mask|group):):([rwx-]{3})")


class Recording:
    """What the recorder saw.  Behaves as the server itself would have when it was recorded."""

    whole = False

    def __init__(self, members: Mapping[str, bytes]) -> None:
        self.name = _text(members.get("hostname", b"")).strip() or "recorded server"
        self.passed_over: list[str] = []
        self.budget = Budget()
        self._members = members
        self.windows = members.get("system", b"").strip() == b"windows"
        self.live = not self.windows  # of such a machine nothing is recorded of what runs
        self.asked = _asked(members.get("asked"))
        self.visit = _visit(_text(members.get("visit", b"")))
        self._odd: set[str] = set()
        """Directories with a name that is no UTF-8 text."""
        self._stats: dict[str, Stat] = {}
        self._links: dict[str, str] = {}
        self._links_changed: dict[str, float] = {}
        self._children: dict[str, set[str]] = {}
        self._content: dict[str, tuple[str, int]] = {}
        self._unreadable = {path for path in _lines(members.get("unreadable", b"")) if path}
        self._grants: dict[str, tuple[Grant, ...]] = {}
        self._labels: dict[str, str] = {}
        self._space: dict[str, int] = {}
        self._take_stats()
        self._take_extras()
        for line in _lines(members.get("links", b"")):
            path, _, end = line.partition("\t")
            self._links[path] = end
        for line in _lines(members.get("contents", b"")):
            number, size, path = [*line.split("\t", 2), "", ""][:3]
            if (length := whole(size)) is not None:
                self._content[path] = (number, length)
        self._modules = self._glances()
        self._spelled = {path.lower(): path for path in self._stats} if self.windows else {}
        """Paths by their lower case, where that does not matter."""
        self._access = _access(members.get("access", b""))

    def _take_stats(self) -> None:
        for raw in self._members.get("stats", b"").split(b"\n"):
            fields = raw.split(b" ", 6)
            if len(fields) != 7 or len(fields[6]) > MAX_PATH or len(self._stats) >= MAX_PATHS:
                continue
            try:
                path = fields[6].decode("utf-8")
            except UnicodeDecodeError:
                self._odd.add(_text(posixpath.dirname(fields[6])))
                continue
            try:
                mode, size = int(fields[0], 16), int(fields[1])
                changed = max(float(fields[2]), float(fields[3]))
                user, group = int(fields[4]), int(fields[5])
            except ValueError:
                continue
            if not (max(mode, size, user, group, abs(changed)) < 2**63 and min(mode, size, user, group) >= 0):
                continue  # no number that a system has, or none at all
            folder, name = posixpath.split(path)
            if name:
                self._children.setdefault(folder, set()).add(name)
            if stat_module.S_ISLNK(mode):
                self._links_changed[path] = changed
            else:
                self._stats[path] = Stat(size, changed, stat_module.S_ISDIR(mode), mode & 0o7777, user, group)
                self._unreadable |= {path} if not stat_module.S_ISDIR(mode) and not stat_module.S_ISREG(mode) else set()

    def _glances(self) -> dict[str, bytes]:
        """Extension files of which only the head and the build identity were taken."""
        glances: dict[str, bytes] = {}
        identities: dict[str, list[str]] = {}
        for line in _lines(self._members.get("identities", b"")):
            path, _, identity = line.rpartition(":")
            identities.setdefault(path, []).append(identity)
        heads = self._members.get("heads", b"")
        for at, line in enumerate(_lines(self._members.get("modules", b""))):
            path = line.partition("\t")[2]
            if path in identities:
                words = "\0".join(identities[path]).encode()
                glances[path] = heads[at * 20 : at * 20 + 20] + b"\0" + words + b"\0"
        return glances

    def _real(self, path: str) -> str:
        """The path with links followed, as they led when the server was recorded."""
        self.budget.entry()
        if len(path) > MAX_PATH:
            raise HostError(f"{path[:80]}…: no path is as long as that")
        path = posixpath.normpath(path) if path.startswith("/") else "/"
        for _ in range(40):
            parts = path.strip("/").split("/")
            for length in range(1, len(parts) + 1):
                head = "/" + "/".join(parts[:length])
                if head in self._links:
                    end = self._links[head] or "/dev/null/nothing"
                    path = posixpath.normpath(posixpath.join(end, *parts[length:]))
                    break
            else:
                return self._spelled.get(path.lower(), path)
        raise HostError(f"{path}: too many levels of symbolic links")

    def resolve(self, path: str) -> str | None:
        try:
            real = self._real(path)
        except HostError:
            return None
        return real if real in self._stats else None

    def read(self, path: str, limit: int = MAX_BYTES) -> bytes | None:
        real = self._real(path)
        about = self._stats.get(real)
        if about is None:
            return None
        if real in self._unreadable or about.is_directory:
            raise HostError(f"{path}: {'not a regular file' if about.is_directory else 'Permission denied'}")
        if real in self._modules:
            return self._modules[real][:limit]
        number, _ = self._content.get(real, ("", 0))
        content = self._members.get(f"content/{number}")
        if content is None:
            raise HostError(f"{path}: was not recorded")
        if len(content) > limit:
            raise HostError(f"{path}: larger than {limit >> 10:,} KiB: not read")
        self.budget.read(len(content))
        return content

    def stream(self, path: str) -> BinaryIO | None:
        data = self.read(path)
        return None if data is None else io.BytesIO(data)

    def view(self, path: str) -> bytes | None:
        return self.read(path)

    def whole_size(self, path: str, read: int) -> int:
        return self._content.get(self._real(path), ("", read))[1]

    def names(self, path: str) -> list[str]:
        real = self._real(path)
        if real in self._odd:
            self.passed_over.append(path)
        if real in self._unreadable:
            raise HostError(f"{path}: Permission denied")
        return sorted(self._children.get(real, ()), key=lambda name: name.encode())

    def entries(self, path: str) -> list[tuple[str, Stat | None]]:
        real = self._real(path)
        return [(name, self._stats.get(posixpath.join(real, name))) for name in self.names(path)]

    def stat(self, path: str) -> Stat | None:
        if "\0" in path:
            return None
        try:
            return self._stats.get(self._real(path))
        except HostError:
            return None

    def changed(self, path: str) -> float | None:
        about = self.stat(path)
        folder, _, name = path.rpartition("/")
        if about is None:
            return None
        return max(about.modified, self._links_changed.get(posixpath.join(self._real(folder or "/"), name), 0.0))

    def extras(self, path: str) -> Extras:
        real = self._real(path)
        closed = real in self._unreadable and real in self._stats and self._stats[real].is_directory
        access = self._access.get(real.lower())
        return Extras(self._grants.get(real, ()), self._labels.get(real, ""), self._space.get(real), closed, access)

    def machine(self) -> Machine:
        facts = dict(line.split(" ", 1) for line in _lines(self._members.get("machine", b"")) if " " in line)
        number = {key: count for key, value in facts.items() if (count := whole(value)) is not None}
        enforce = number.get("enforce")
        memory, swap = number.get("memory"), number.get("swap")
        return Machine(
            memory=memory * 1024 if memory else None,
            swap=None if swap is None else swap * 1024,
            processors=number.get("processors"),
            enforcing=None if enforce is None else enforce == 1,
            permissive=enforce == 0,
        )

    def _take_extras(self) -> None:
        for line in _lines(self._members.get("space", b"")):
            size, _, path = line.partition(" ")
            if (free := whole(size)) is not None:
                self._space[path] = free * 1024
        for line in _lines(self._members.get("labels", b"")):
            label, _, path = line.partition(" ")
            self._labels |= {path: label} if label != "?" else {}
        path = ""
        for line in _lines(self._members.get("grants", b"")):
            if line.startswith("# file: "):
                path = line.removeprefix("# file: ")
            elif match := _GRANT.match(line):
                bits = sum(bit for letter, bit in zip("rwx", (4, 2, 1), strict=True) if letter in match[4])
                kind: Literal["user", "group", "owning-group", "mask"]
                kind = match[1] or {"group": "owning-group"}.get(match[3], match[3])  # type: ignore[assignment]
                self._grants[path] = (*self._grants.get(path, ()), Grant(kind, int(match[2] or 0), bits))

    def running(self, beginnings: Sequence[str], names: Sequence[str] = VARIABLES) -> Running:
        oldest: dict[tuple[str, str], float] = {}
        variables: dict[tuple[str, str], tuple[tuple[str, str], ...] | None] = {}
        hidden = False
        for line in _lines(self._members.get("processes", b"")):
            fields = line.split("\t")
            whose, started, title, program, environment = [*fields, "", "", "", ""][:5]
            hidden = hidden or whose == "hidden"
            if whose == "seen" and re.fullmatch(r"[0-9]{1,12}(\.[0-9]{1,6})?", started):
                key = (title, program.removesuffix(DELETED))
                if float(started) >= oldest.get(key, math.inf):
                    continue
                oldest[key] = float(started)
                pairs = [tuple(field.split("=", 1)) for field in fields[5:] if field.partition("=")[0] in names]
                variables[key] = tuple(sorted(pairs)) if environment == "seen" else None  # type: ignore[arg-type]
        return seen(oldest, hidden, variables)

    def answer(self, question: Question) -> bytes | None:
        return self._members.get(f"answer-{question.name}")


def _access(data: bytes) -> dict[str, tuple[Access, ...]]:
    """Access lists by path in lower case; on each line ``allow`` or ``deny``, bits, identifier, name and path."""
    rights: dict[str, tuple[Access, ...]] = {}
    for line in _lines(data):
        kind, bits, sid, name, path = [*line.split("\t", 4), *[""] * 5][:5]
        number = whole(bits)
        if kind in ("allow", "deny") and number is not None and number < 8 and path:
            rights[path.lower()] = (*rights.get(path.lower(), ()), Access(name, sid, number, kind == "deny"))
    return rights


def _asked(said: bytes | None) -> Asked | None:
    """``directory PATH``, ``command NAME``, ``task PATH``; None: the recorder does not tell."""
    if said is None:
        return None
    asked: dict[str, list[str]] = {"directory": [], "command": [], "task": []}
    for line in _lines(said):
        kind, _, name = line.partition(" ")
        if kind in asked:
            asked[kind].append(name)
    return Asked(tuple(asked["command"]), tuple(asked["directory"]), tasks=tuple(asked["task"]))


def _visit(text: str) -> Visit:
    """``SECONDS USER``, as the recorder wrote it."""
    numbers = [whole(word) for word in text.split()]
    return Visit(numbers[0], numbers[1] == 0) if len(numbers) == 2 and numbers[0] else Visit()


def open_recording(data: bytes, where: str) -> Recording:
    """The recording in an archive; a clear error if it is none, or not one that the recorder wrote."""
    return Recording(members_of(data, where))


def _text(data: bytes) -> str:
    return data.decode("utf-8", "replace")


def _lines(data: bytes) -> list[str]:
    return _text(data).split("\n")[:-1] if data else []
