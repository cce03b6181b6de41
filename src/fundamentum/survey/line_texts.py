"""The lines that decide for one site alone, as they stand: a plan that changes one shows it in a diff."""

import posixpath
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog.setting_line import Syntax, is_plain_line
from fundamentum.hosts.base import Host, HostError, text_of
from fundamentum.model.layers import Assignment, Layer
from fundamentum.model.php import Runtime
from fundamentum.model.safe_text import is_path, safe_line
from fundamentum.model.surrounding_facts import Spot
from fundamentum.model.survey import Site
from fundamentum.untrusted.secrets import names_a_secret, without_credentials

MAX_LINE: Final = 1000
_SYNTAX: Final[dict[str, Syntax]] = {"request": "sent", "request-admin": "sent", "user-ini": "ini"}


class LineTexts:
    """The lines of files, each file read once."""

    def __init__(self, host: Host) -> None:
        self.host = host
        self._files: dict[str, list[str]] = {}

    def of_site(self, site: Site) -> Site:
        """The site with the text of each line of its layers."""
        layers = tuple(self._of_layer(layer) for layer in site.layers)
        return site if layers == site.layers else replace(site, layers=layers)

    def of_sections(self, runtime: Runtime) -> Runtime:
        """The runtime with the text of each line of its ``[PATH=]`` and ``[HOST=]`` sections."""
        sections = tuple(
            replace(section, values=tuple(self._of_line(value, "ini", "section") for value in section.values))
            for section in runtime.sections
        )
        return replace(runtime, sections=sections) if sections else runtime

    def _of_layer(self, layer: Layer) -> Layer:
        syntax = _SYNTAX.get(layer.kind, "module")
        return replace(
            layer, values=tuple(self._of_line(assignment, syntax, layer.kind) for assignment in layer.values)
        )

    def _of_line(self, assignment: Assignment, syntax: Syntax, kind: str) -> Assignment:
        path = self._path(assignment.origin.file, kind in ("user-ini", "htaccess"))
        lines = self._lines(path) if path else []
        at = assignment.origin.line or 0
        text = lines[at - 1] if 0 < at <= len(lines) else ""
        plain = is_plain_line(text, syntax, assignment.name) and len(text) < MAX_LINE and safe_line(text) == text
        hidden = names_a_secret(text) or without_credentials(text) != text
        return (
            replace(assignment, spot=Spot(path, at, text, at == len(lines)))
            if path and plain and not hidden
            else assignment
        )

    def _path(self, file: str, below_visitors: bool) -> str | None:
        """Where a file really is: what is changed is the file, not a link to it.

        A file in a document root is its owner's, and a link there leads where he wants: it is not followed.
        """
        path = self.host.resolve(file) or file
        if below_visitors:
            folder = posixpath.dirname(file)
            if path != posixpath.join(self.host.resolve(folder) or folder, posixpath.basename(file)):
                return None
        return path if is_path(path) else None

    def _lines(self, path: str) -> list[str]:
        if path not in self._files:
            try:
                self._files[path] = (text_of(self.host, path) or "").split("\n")
            except HostError:
                self._files[path] = []
        return self._files[path]
