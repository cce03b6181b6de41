r"""What the registry says of PHP, where keys of it were exported (``reg export HKLM\SOFTWARE\PHP php.reg``).

Sources: the format of registration files (Microsoft, "How to add, modify, or delete registry subkeys by using a .reg
file"); ``GetIniPathFromRegistry`` and ``UpdateIniFromRegistry`` in PHP's win32/registry.c.
"""

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import Final

import msgspec

from fundamentum.hosts.base import Host, HostError, listed
from fundamentum.hosts.processes import VARIABLES
from fundamentum.hosts.windows_directory import windows_path
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.origin import Origin
from fundamentum.platforms.windows.hive import BadHive, Hive

MAX_FILE: Final = 8 * 1024 * 1024
MAX_FILES: Final = 20
MAX_VALUES: Final = 5000
_CONFIG: Final = "/Windows/System32/config"
_HIVES: Final = (
    (f"{_CONFIG}/SOFTWARE", "software", ("PHP",)),
    (f"{_CONFIG}/SOFTWARE", "software", ("WOW6432Node", "PHP")),
    (f"{_CONFIG}/SYSTEM", "", ("ControlSet001", "Control", "Session Manager", "Environment")),
)
"""Where the registry lies on the drive of Windows itself: the file, the key that it is, and those that are asked."""
_MACHINE: Final = ("hkey_local_machine\\", "hklm\\")
_KEYS: Final = ("software\\php", "software\\wow6432node\\php")
_ENVIRONMENT: Final = r"system\currentcontrolset\control\session manager\environment"
_PER_DIRECTORY: Final = "per directory values"
_VALUE: Final = lazy_regex(r'"((?:[^"\\]|\\.)*)"=(?:"((?:[^"\\]|\\.)*)"|hex\((2|1)\):([0-9a-fA-F,]*))')


class Value(msgspec.Struct, frozen=True):
    """One text in the registry."""

    key: str
    """In lower case, below ``HKEY_LOCAL_MACHINE``."""
    name: str
    text: str
    origin: Origin


class Registry(msgspec.Struct):
    """The values that concern PHP."""

    values: list[Value] = msgspec.field(default_factory=list)
    unread: tuple[str, ...] = ()
    """Files that are there and could not be read, each with why."""

    def ini_folders(self, version: str, small: bool) -> list[str]:
        """The directories that it names for the php.ini of a version: the first key that is there is asked alone."""
        numbers = version.split(".")
        base = _KEYS[1] if small else _KEYS[0]
        for length in (3, 2, 1, 0):
            key = "\\".join((base, *([".".join(numbers[:length])] if length else [])))
            own = [value for value in self.values if value.key == key]
            if own:
                return [value.text for value in own if value.name.lower() == "inifilepath"]
        return []

    def environment(self) -> dict[str, str]:
        """The variables that every program has, as far as they decide which files PHP reads."""
        return {v.name.upper(): v.text for v in self.values if v.key == _ENVIRONMENT and v.name.upper() in VARIABLES}

    def per_directory(self) -> Iterator[Value]:
        """Directives that are set for scripts in some directories."""
        yield from (value for value in self.values if f"\\{_PER_DIRECTORY}" in value.key)


def read(host: Host, folders: Iterable[str]) -> Registry:
    """What is exported into ``*.reg`` files at the top of the tree or in one of these directories; what its own files
    say, where the tree has those."""
    registry = Registry()
    for path, key, asked in _HIVES:
        try:
            registry.values += _of_hive(host, path, key, asked)
        except (HostError, BadHive) as error:
            registry.unread = (*registry.unread, f"{path} {error}" if isinstance(error, BadHive) else str(error))
    paths = [
        f"{folder.rstrip('/')}/{name}"
        for folder in dict.fromkeys(("/", *folders))
        for name in listed(host, folder)
        if name.lower().endswith(".reg")
    ]
    for path in paths[:MAX_FILES]:
        try:
            data = host.read(path, MAX_FILE) or b""
        except HostError as error:
            registry.unread = (*registry.unread, str(error))
            continue
        registry.values += _values(path, _text(data))[: MAX_VALUES - len(registry.values)]
    return registry


def _of_hive(host: Host, path: str, key: str, asked: Sequence[str]) -> list[Value]:
    data = host.view(path) if host.stat(path) else None
    if data is None:
        return []
    texts = Hive(data).texts(asked)
    beginning = f"{key or 'system'}\\"
    values = [
        (f"{beginning}{at}".replace("controlset001", "currentcontrolset"), name, text) for at, name, text in texts
    ]
    return [Value(*value, Origin(path)) for value in values[:MAX_VALUES]]


def _text(data: bytes) -> str:
    """Source: version 5 of the format is UTF-16 with a mark, ``REGEDIT4`` is in the system's own code page."""
    utf16 = data[:2] in (b"\xff\xfe", b"\xfe\xff")
    return data.decode("utf-16" if utf16 else "utf-8", "replace").lstrip("\ufeff")


def _values(path: str, text: str) -> list[Value]:
    values: list[Value] = []
    key, held, start = "", "", 0
    for number, content in enumerate(text.splitlines(), 1):
        line = content.strip()
        start = start if held else number
        if held:
            line, held = held + line, ""
        if line.endswith("\\") and "hex(" in line:
            held = line[:-1]
            continue
        if line.startswith("["):
            section = line.strip("[]").lower()
            beginning = next((root for root in _MACHINE if section.startswith(root)), "")
            below = section.removeprefix(beginning)
            ours = below == _ENVIRONMENT or any(below == name or below.startswith(f"{name}\\") for name in _KEYS)
            key = below if beginning and ours and not line.startswith("[-") else ""
        elif key and (match := _VALUE.fullmatch(line)):
            plain = match[2] if match[2] is not None else None
            value = _unescaped(plain) if plain is not None else _from_hex(match[4])
            values.append(Value(key, _unescaped(match[1]), value, Origin(path, start)))
    return values


def _unescaped(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text)


def _from_hex(digits: str) -> str:
    numbers = bytes(int(digit_pair, 16) for digit_pair in digits.split(",") if len(digit_pair) == 2)
    return numbers.decode("utf-16-le", "replace").rstrip("\0")


def folder(host: Host, text: str) -> str | None:
    """A directory that it names, as a path here; None where that holds a variable whose value is not known."""
    path = windows_path(host, text, "/").rstrip("/") or "/"
    return None if "%" in path else path
