"""Load an extension whose file is there, by a line in a configuration file."""

from collections.abc import Iterator
from typing import Any

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.extension_loading import loading
from fundamentum.changes.file_operations import EditFile, Hunk, Line, WriteFile
from fundamentum.changes.primitives import Primitive
from fundamentum.model.php import Runtime
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


class LoadByLine(Change, frozen=True):
    """Load an extension by a line of its own: nothing here switches extensions on by name."""

    FILLS = "enable"
    extension: str
    line: str
    file: str
    """A file of the scan directory, or the php.ini itself where there is no such directory."""
    runtime: str

    @property
    def key(self) -> str:
        return f"line:{self.file}:{self.extension}"

    @property
    def about(self) -> str:
        return self.extension

    def words(self, offers: Offers) -> str:
        return f"add {self.line} to {self.file}"

    def concerns(self, runtime: Runtime) -> bool:
        return self.runtime == runtime.label

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        like = next((runtime for runtime in survey.runtimes if runtime.label == self.runtime), None)
        same = {runtime.label for runtime in survey.runtimes if like and self._read_by(runtime, like)}
        changed = tuple(
            loading(runtime, self.extension) if runtime.label in same else runtime for runtime in survey.runtimes
        )
        return replace(survey, runtimes=changed)

    def _read_by(self, runtime: Runtime, like: Runtime) -> bool:
        """Whether this runtime reads the file that another one does."""
        folder = self.file.rpartition("/")[0]
        same_home = (runtime.branch, runtime.home) == (like.branch, like.home)
        return same_home and (runtime.scan_dir == folder if runtime.scan_dir else runtime.ini_file in (self.file, None))

    def lowered(self, place: Place) -> Iterator[Primitive]:
        yield ini_line(self.file, self.runtime, place, self.line, "", ";" + self.line.lower())

    def row(self) -> dict[str, Any]:
        return {"extension": self.extension, "runtime": self.runtime}


def ini_line(path: str, label: str, place: Place, text: str, name: str, commented: str = "") -> Primitive:
    """A line of PHP's configuration as an operation: of a drop-in file, of a php.ini that is there, or of a new one.

    ``name`` is the directive whose line it takes the place of, ``commented`` a comment that it takes the place of.
    """
    runtime = next((runtime for runtime in place.survey.runtimes if runtime.label == label), None)
    main = runtime.main_ini if runtime else ""
    if runtime is None or runtime.scan_dir or main != path:
        head = f"; Limits for {place.label}, as planned by fundamentum." if name else "; As planned by fundamentum."
        return WriteFile(path, head, (Line(text, 9 if name else 8, name),))
    if runtime.ini_file is None:
        folder = Line('extension_dir = "ext"', 0, "extension_dir")
        return WriteFile(path, "; Written as planned by fundamentum.", (folder, Line(text, 9 if name else 8, name)))
    end = "\r" if any(line.endswith("\r") for line in runtime.ini_lines.values()) else ""
    setting = runtime.settings.get(name)
    number = setting.origin.line if setting and setting.origin.file == path else None
    if commented:
        number = next((at for at, line in runtime.ini_lines.items() if _without_blanks(line) == commented), None)
    old = runtime.ini_lines.get(number) if number else None
    if number is None or old is None:
        return EditFile(path, (Hunk(runtime.ini_length, None, added=(text + end,)),))
    return EditFile(path, (Hunk(number, old, ((0, len(old), text + end),)),))


def _without_blanks(line: str) -> str:
    """A commented line without its blanks, ending and the ``php_`` and ``.dll`` that may be written out."""
    words = "".join(line.split()).lower()
    return words.replace("=php_", "=").removesuffix(".dll")
