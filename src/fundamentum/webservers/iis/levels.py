"""The configuration of IIS as it counts for one address: what is inherited, and what each level adds or takes away.

Source: Microsoft's reference of IIS configuration: ``applicationHost.config`` holds what counts for the server, its
``location`` elements what counts for a path below, and a ``web.config`` what counts for the directory it lies in.
"""

import posixpath
from collections.abc import Iterator, Sequence
from typing import Any, Final

import msgspec

from fundamentum.hosts.base import Host, HostError, matching
from fundamentum.model.origin import Origin
from fundamentum.model.remark import Remark
from fundamentum.untrusted.xml import BadXml, parsed
from fundamentum.webservers.handoffs import Files

_MAX_XML: Final = 16 * 1024 * 1024
WEB_SERVER: Final = "system.webServer"


class Element(msgspec.Struct, frozen=True):
    """One element of a list, with the place where it stands."""

    origin: Origin
    tag: str
    options: dict[str, str]

    def get(self, name: str, default: str = "") -> str:
        """One of its options."""
        return self.options.get(name, default)


class Level(msgspec.Struct, frozen=True):
    """What one file sets for a path."""

    file: str
    element: Any
    """``system.webServer``."""


def tree(host: Host, path: str, files: Files) -> Any:
    """The root element of a file; None, and a remark, where it cannot be read."""
    try:
        data = host.read(path, _MAX_XML)
        if data is None:
            return None
        if path not in files.read:
            files.read.append(path)
        return parsed(data)
    except HostError as error:
        files.remarks.append(Remark("web sites", f"{error}: what it sets is unknown"))
    except BadXml as error:
        files.remarks.append(Remark("web sites", f"{path}: cannot be read as XML ({error})"))
    return None


class Levels:
    """The levels for the addresses of one site; files are read once."""

    def __init__(self, host: Host, main: Any, path: str, files: Files) -> None:
        self.host, self.main, self.path, self.files = host, main, path, files
        self._trees: dict[str, tuple[str, Any] | None] = {}

    def of(self, site: str, folders: Sequence[tuple[str, str]]) -> list[Level]:
        """The nearest first.  ``folders``: each part of the address from ``/`` down, with its directory."""
        levels: list[Level] = []
        for depth in range(len(folders), 0, -1):
            address, folder = folders[depth - 1]
            if web := self.web_config(folder):
                levels += _direct(*web)
            for above, upper in reversed(folders[: depth - 1]):
                if web := self.web_config(upper):
                    levels += _located(*web, posixpath.relpath(address, above))
            levels += _located(self.path, self.main, f"{site}/{address.strip('/')}".rstrip("/"))
        return [*levels, *self.server()]

    def server(self) -> list[Level]:
        """What counts for every site: the file itself, and its ``location`` elements for no path in particular."""
        return [*_located(self.path, self.main, ""), *_direct(self.path, self.main)]

    def web_config(self, folder: str) -> tuple[str, Any] | None:
        """The file of a directory."""
        if folder not in self._trees:
            file = next(iter(matching(self.host, posixpath.join(folder, "[Ww]eb.config"))), None)
            root = tree(self.host, file, self.files) if file else None
            self._trees[folder] = (file, root) if file and root is not None else None
        return self._trees[folder]

    def locked(self, section: str) -> bool:
        """Whether no ``web.config`` may set a section; not where the file does not say which sections there are."""
        name = section.rpartition("/")[2]
        defined = [element for element in self.main.iterfind("configSections//section") if element.get("name") == name]
        if not any(
            (section_definition.get("overrideModeDefault") or "").lower() == "deny" for section_definition in defined
        ):
            return False
        opened = (
            element
            for element in self.main.iterfind("location")
            if (element.get("overrideMode") or "").lower() == "allow"
            or (element.get("allowOverride") or "").lower() == "true"
        )
        return not any(location.find(f"{WEB_SERVER}/{section}") is not None for location in opened)


def _direct(file: str, root: Any) -> list[Level]:
    element = root.find(WEB_SERVER)
    return [] if element is None else [Level(file, element)]


def _located(file: str, root: Any, path: str) -> list[Level]:
    wanted = path.strip("/.").lower()
    same = (
        location for location in root.iterfind("location") if (location.get("path") or "").strip("/.").lower() == wanted
    )
    return [Level(file, element) for location in same if (element := location.find(WEB_SERVER)) is not None]


def elements(levels: Sequence[Level], section: str) -> Iterator[tuple[Level, Any]]:
    """The elements of a section, those of the nearest level first."""
    for level in levels:
        yield from ((level, element) for element in level.element.iterfind(section))


def option(levels: Sequence[Level], section: str, name: str) -> tuple[str, Origin] | None:
    """An option of a section, as the nearest level sets it."""
    for level, element in elements(levels, section):
        if (value := element.get(name)) is not None:
            return value, Origin(level.file, element.sourceline)
    return None


def listed(levels: Sequence[Level], section: str, key: str, *, prepend: bool = False) -> list[Element]:
    """The elements that a list ends up with: each level adds to what it inherits, or takes something off.

    ``key``: the option by which an element is known.  ``prepend``: whether a level's own elements come in front.
    """
    kept: list[Element] = []
    for level in reversed(levels):
        own: list[Element] = []
        for section_element in level.element.iterfind(section):
            for child in section_element:
                if not isinstance(child.tag, str):
                    continue  # a comment
                if child.tag == "clear":
                    kept, own = [], []
                elif child.tag == "remove":
                    gone = (child.get(key) or "").lower()
                    kept = [element for element in kept if element.get(key).lower() != gone]
                    own = [element for element in own if element.get(key).lower() != gone]
                else:
                    own.append(Element(Origin(level.file, child.sourceline), child.tag, dict(child.attrib)))
        kept = [*own, *kept] if prepend else [*kept, *own]
    return kept
