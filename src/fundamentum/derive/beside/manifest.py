"""What an application states itself: ``composer.json``, ``composer.lock``, ``vendor/composer/installed.json``, and the
headers of packages of other kinds.  Their formats are documented; a manifest that breaks them is remarked."""

import itertools
import re
from collections.abc import Iterable, Mapping
from pathlib import Path, PurePosixPath
from typing import Any, Final

import msgspec

from fundamentum.catalog import branch_key, known_branches
from fundamentum.derive.beside.manifest_tables import (
    MAX_NAMES,
    MAX_TEXT,
    extension_of,
    list_of,
    names_of,
    table_of,
    text_of,
    under_vendor,
)  # fmt: skip
from fundamentum.derive.beside.package_headers import package_headers
from fundamentum.derive.beside.platform_packages import Demand, demands
from fundamentum.derive.beside.stated import Manifest, Stated
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.model.constraints import EVERYTHING, Interval, common, intervals
from fundamentum.model.needs_value import NotUnderstood
from fundamentum.untrusted.files import read_below

MAX_SIZE: Final = 16 * 1024 * 1024
MAX_PACKAGES: Final = 5000
MAX_REMARKS: Final = 50
MAX_PLACES: Final = 1000
"""Places that are looked up in manifests."""
_STAND_IN: Final = re.compile(r"[\w.-]+/polyfill-(\w{2,30})")
_OF_BRANCH: Final = re.compile(r"php(\d)(\d)")
_CHECKED: Final = re.compile(rb"extension_loaded\('([\w-]{1,40})'\)[^|;\n]{0,20}\|\|")
_ITSELF: Final = "the application"


def read_manifests(root: Path, paths: Iterable[str], base: str = "") -> Manifest:
    """Read the manifests of a tree; ``paths`` are those of its files that may be manifests, ``base`` is where the
    application itself begins."""
    return _Reader(root, f"{base}/" if base else "").read(
        [path for path in paths if PurePosixPath(path).name in _NAMES]
    )


_NAMES: Final = frozenset({"composer.json", "composer.lock", "installed.json", "package.xml", "package2.xml"})


class _Reader:
    def __init__(self, root: Path, base: str) -> None:
        self.root, self.base = root, base
        self.remarks: list[str] = []
        self._texts: dict[str, bytes] = {}
        self._places = 0
        self.statements: list[Stated] = []
        self.demands: list[Demand] = []
        self.provided: dict[str, str] = {}
        self.stand_ins: dict[str, str] = {}
        self.brought: set[str] = set()
        self.accepted: tuple[Interval, ...] = (EVERYTHING,)
        self.of_libraries: list[tuple[str, str]] = []
        self.php = self.php_where = self.name = self.version = ""
        self.development: set[str] = set()
        self.stated: set[str] = set()

    def read(self, paths: list[str]) -> Manifest:
        own, lock = f"{self.base}composer.json", f"{self.base}composer.lock"
        if own in paths:
            self._own(self._json(own), own)
        locked = self._json(lock) if lock in paths else {}
        installed = next((p for p in paths if p.endswith("composer/installed.json")), None)
        if packages := list_of(locked.get("packages")):
            self._libraries(packages, lock)
            self._only_for_development(names_of(list_of(locked.get("packages-dev"))))
        if installed is not None:
            document = self._document(installed)
            listing = document.get("packages") if isinstance(document, Mapping) else document
            aside = set(list_of(document.get("dev-package-names"))) if isinstance(document, Mapping) else set()
            self._only_for_development(str(name) for name in aside)
            entries = [
                entry for entry in list_of(listing) if isinstance(entry, Mapping) and entry.get("name") not in aside
            ]
            if not packages:
                self._libraries(entries, installed)
        for path in paths:
            if PurePosixPath(path).name == "composer.json" and path != own and "/" in path:
                self._beside(path)
        self._headers()
        self._platform_check(f"{self.base}vendor/composer/platform_check.php")
        asked = {each.extension for each in self.statements if each.by == _ITSELF and each.level == "required"}
        self.provided = {name: by for name, by in self.stand_ins.items() if name not in asked} | self.provided
        statements = [statement for statement in self.statements if statement.extension not in self.provided]
        return Manifest(
            self.name, self.version, self.php, self.php_where, self.accepted, tuple(statements), tuple(self.demands),
            tuple(self.provided.items()), frozenset(self.development), frozenset(self.stated), tuple(self.remarks),
            tuple(reversed(self.of_libraries)), frozenset(self.brought),
        )  # fmt: skip

    def _document(self, path: str) -> Any:
        try:
            data = read_below(self.root, path, MAX_SIZE + 1)
            if len(data) > MAX_SIZE or data.count(b"{") > 200_000 or data.count(b'"') > 2_000_000:
                raise ValueError("larger than any manifest")
            return msgspec.json.decode(data.removeprefix(b"\xef\xbb\xbf"))
        except (OSError, ValueError, RecursionError) as error:
            what = error.strerror if isinstance(error, OSError) else str(error)[:200]
            self._remark(f"{path} cannot be used: {what}")
            return {}

    def _remark(self, line: str) -> None:
        if len(self.remarks) < MAX_REMARKS:
            self.remarks.append(line)

    def _json(self, path: str) -> Mapping[str, Any]:
        document = self._document(path)
        return document if isinstance(document, Mapping) else {}

    def _own(self, document: Mapping[str, Any], path: str) -> None:
        self.name = text_of(document.get("name")).rpartition("/")[2]
        self.version = text_of(document.get("version"))
        requires, where = table_of(document.get("require")), self._place(path, '"require"')
        for name, text in requires.items():
            if name in ("php", "php-64bit"):
                self.php, self.php_where = text, self._place(path, f'"{name}"')
                self._accept(text, self.php_where)
        if refused := table_of(document.get("conflict")).get("php"):
            self._refuse(refused, self._place(path, '"conflict"'))
            self.php = self.php and f"{self.php}, in conflict with {refused[:MAX_TEXT]}"
        self._platform(requires, _ITSELF, path, where)
        for table in (requires, table_of(document.get("conflict"))):
            for name, text in table.items():
                stated = {name: text}
                place = self._place(path, f'"{name}"') if "-" in name else where
                self.demands += demands(*((stated, {}) if table is requires else ({}, stated)), _ITSELF, place)
        for name, why in table_of(document.get("suggest")).items():
            if extension := extension_of(name):
                self.statements.append(Stated(extension, "recommended", _ITSELF, self._place(path, f'"{name}"'), why))
        self._provides(document, _ITSELF)
        self._stand_ins(requires)

    def _libraries(self, packages: Iterable[Any], path: str) -> None:
        for package in itertools.islice(packages, MAX_PACKAGES):
            if not isinstance(package, Mapping):
                continue
            name = str(package.get("name") or "")[:MAX_TEXT]
            requires = table_of(package.get("require"))
            place = self._place(path, f'"{name}"')
            self._platform(requires, name, path, place)
            self.demands += demands(requires, table_of(package.get("conflict")), name, place)
            if php := requires.get("php"):
                self._accept(php, f"{path} ({name})", library=True)
            for suggested, why in table_of(package.get("suggest")).items():
                if extension := extension_of(suggested):
                    self.statements.append(Stated(extension, "recommended", name, path, why))
            self._provides(package, name)
            self._stand_ins((name,))
            self.stated.add(name)

    def _beside(self, path: str) -> None:
        """The manifest that lies in a library's own directory, where no list of what is installed names the library."""
        directory = path.rpartition("/")[0]
        known = any(directory.endswith("/" + name) or directory == name for name in self.stated)
        self.stated.add(directory)
        if known or not under_vendor(directory) or directory in self.development:
            return
        document = self._json(path)
        self._libraries([{**document, "name": document.get("name") or directory}], path)

    def _platform(self, requires: Mapping[str, str], by: str, path: str, where: str) -> None:
        for name in requires:
            if extension := extension_of(name):
                place = self._place(path, f'"{name}"') if by == _ITSELF else where
                self.statements.append(Stated(extension, "required", by, place))

    def _provides(self, document: Mapping[str, Any], by: str) -> None:
        for table in ("replace", "provide"):
            for name in table_of(document.get(table)):
                if extension := extension_of(name):
                    self.provided[extension] = by

    def _stand_ins(self, libraries: Iterable[str]) -> None:
        """Libraries that are called after that in whose place they work: ``polyfill-mbstring``, ``polyfill-php80``."""
        for library in libraries:
            match = _STAND_IN.fullmatch(library.lower())
            if match and (branch := _OF_BRANCH.fullmatch(match[1])):
                self.brought.add(f"{branch[1]}.{branch[2]}")
            elif match and (extension := extension_called(match[1].encode())):
                self.stand_ins.setdefault(extension, library[:MAX_TEXT])

    def _refuse(self, text: str, where: str) -> None:
        """Versions that the application itself says it does not run on: what is below them and above them is left."""
        try:
            for interval in intervals(text):
                below = EVERYTHING._replace(high=interval.low, closed=interval.above)
                above = EVERYTHING._replace(low=interval.high, above=interval.closed)
                self.accepted = common(self.accepted, (below, above)) or self.accepted
        except NotUnderstood as error:
            self._remark(f"{where}: {error}")

    def _accept(self, text: str, where: str, *, library: bool = False) -> None:
        """Narrow what is accepted.  The upper bound of a library yields to the word of the application itself."""
        try:
            stated = intervals(text)
            own, last = self.accepted[-1], stated[-1]
            if library and self.php and last.high[:2] <= branch_key(known_branches()[-1]) and last.high < own.high:
                self._remark(f"{where} accepts PHP {text[:MAX_TEXT]} only: what the application itself states counts")
                stated = (*stated[:-1], last._replace(high=own.high, closed=own.closed))
            both = common(self.accepted, stated)
        except NotUnderstood as error:
            self._remark(f"{where}: {error}")
            return
        if both:
            self.of_libraries += [(text[:MAX_TEXT], where)] if library and both != self.accepted else []
            self.accepted = both
        else:
            self._remark(f"{where}: '{text[:MAX_TEXT]}' contradicts what the rest of the application accepts; left out")

    def _only_for_development(self, names: Iterable[str]) -> None:
        self.development |= {f"vendor/{name}" for name in names}

    def _place(self, path: str, key: str) -> str:
        """File and line of a key."""
        if path not in self._texts:
            try:
                self._texts[path] = read_below(self.root, path, MAX_SIZE)
            except OSError:
                self._texts[path] = b""
        data = self._texts[path]
        self._places += 1
        if self._places > MAX_PLACES:
            return path
        at = data.find(key.encode("utf-8", "replace"))
        line = data.count(b"\n", 0, at) + 1
        return f"{path}:{line}" if at >= 0 else path

    def _platform_check(self, path: str) -> None:
        """The file with which the loader of the libraries ends where an extension is missing that one of them needs."""
        try:
            data = read_below(self.root, path, MAX_SIZE)
        except OSError:
            return
        for match in itertools.islice(_CHECKED.finditer(data), MAX_NAMES):
            if extension := extension_called(match[1]):
                line = data.count(b"\n", 0, match.start()) + 1
                self.statements.append(Stated(extension, "required", _ITSELF, f"{path}:{line}"))

    def _headers(self) -> None:
        """What else the application says of itself in a form that programs read."""
        php: list[tuple[str, str]] = []
        for package_header in package_headers(self.root, self.base, self._remark):
            if package_header.extension:
                self.statements.append(
                    Stated(package_header.extension, package_header.level, _ITSELF, package_header.where)
                )
            elif package_header.php:
                php.append((package_header.php, package_header.where))
            self.name, self.version = self.name or package_header.name, self.version or package_header.version
        if php and not self.php:
            self.php, self.php_where = " ".join(text for text, _ in php), php[-1][1]
            for text, where in php:
                self._accept(text, where)
