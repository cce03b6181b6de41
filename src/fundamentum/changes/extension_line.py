"""Load an extension whose file is there, by a line in a configuration file."""

from collections.abc import Iterator
from typing import Any

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.extension_loading import loading
from fundamentum.changes.file_operations import EditFile, Hunk, Line, WriteFile
from fundamentum.changes.primitives import Primitive
from fundamentum.model.origin import Origin
from fundamentum.model.php import Runtime, Setting
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
            loading(with_sample(runtime), self.extension) if runtime.label in same else runtime
            for runtime in survey.runtimes
        )
        return replace(survey, runtimes=changed)

    def _read_by(self, runtime: Runtime, like: Runtime) -> bool:
        """Whether this runtime reads the file that another one does."""
        folder = self.file.rpartition("/")[0]
        same_home = (runtime.branch, runtime.home) == (like.branch, like.home)
        return same_home and (runtime.scan_dir == folder if runtime.scan_dir else runtime.main_ini == self.file)

    def lowered(self, place: Place) -> Iterator[Primitive]:
        yield ini_line(self.file, self.runtime, place, self.line, "", ";" + self.line.lower())

    def row(self) -> dict[str, Any]:
        return {"extension": self.extension, "runtime": self.runtime}


def ini_line(path: str, label: str, place: Place, text: str, name: str, commented: str = "") -> Primitive:
    """A line of PHP's configuration as an operation: of a drop-in file, of a php.ini that is there, or of a new one.

    ``name`` is the directive whose line it takes the place of; of a line that loads an extension, ``commented`` is a
    comment that it takes the place of.
    """
    runtime = next((runtime for runtime in place.survey.runtimes if runtime.label == label), None)
    main = runtime.main_ini if runtime else ""
    if runtime is None or runtime.scan_dir or main != path:
        head = f"; Limits for {place.label}, as planned by fundamentum." if name else "; As planned by fundamentum."
        return WriteFile(path, head, (Line(text, 9 if name else 8, name),))
    folder = runtime.extension_dir_line if commented or runtime.ini_file is None else ""
    if runtime.ini_file is None and runtime.sample is None:
        first = [Line(folder, 0, "extension_dir")] if folder else []
        line = Line(text, 9 if name else 8, name)
        return WriteFile(path, "; Written as planned by fundamentum.", (*first, line))
    ini = _Ini(runtime)
    hunks = [ini.loading(text, commented) if commented else ini.setting(text, name)]
    hunks += [ini.setting(folder, "extension_dir")] if folder and name != "extension_dir" else []
    return EditFile(path, tuple(hunks), copied_from=ini.sample.path if ini.sample else "")


class _Ini:
    """A php.ini as it stands: the one that is read, or the sample that is copied where none is."""

    def __init__(self, runtime: Runtime) -> None:
        self.runtime = runtime
        self.sample = runtime.sample if runtime.ini_file is None else None
        self.lines = self.sample.lines if self.sample else runtime.ini_lines
        self.length = self.sample.length if self.sample else runtime.ini_length
        self.end = "\r" if any(line.endswith("\r") for line in self.lines.values()) else ""

    def setting(self, text: str, name: str) -> Hunk:
        """A line that sets a directive, in the place of the one that does now, or of the same one commented out."""
        setting = self.runtime.settings.get(name)
        number = setting.origin.line if setting and setting.origin.file == self.runtime.ini_file else None
        if number not in self.lines:
            setters = (at for at, line in self.lines.items() if line.partition("=")[0].strip() == name)
            number = max(setters, default=None)
        wanted = f";{''.join(text.split())}"
        number = number or next((at for at, line in self.lines.items() if "".join(line.split()) == wanted), None)
        return self._at(number, text)

    def loading(self, text: str, commented: str) -> Hunk:
        """A line that loads an extension, in the place of its own comment."""
        number = next((at for at, line in self.lines.items() if _without_blanks(line) == commented), None)
        return self._at(number, text)

    def _at(self, number: int | None, text: str) -> Hunk:
        old = self.lines.get(number) if number else None
        if number is None or old is None:
            return Hunk(self.length, None, added=(text + self.end,))
        return Hunk(number, old, ((0, len(old), text + self.end),))


def with_sample(runtime: Runtime) -> Runtime:
    """The runtime once its sample has been copied to where its php.ini is looked for, and counts."""
    sample = runtime.sample
    if runtime.ini_file or sample is None:
        return runtime
    path = runtime.main_ini
    settings = dict(runtime.settings)
    for name, value in sample.values.items():
        if name in settings and settings[name].origin.built_in:
            settings[name] = Setting(value, Origin(path), set_by="ini")
    lines = {"ini_lines": sample.lines, "ini_length": sample.length}
    return replace(runtime, ini_file=path, sample=None, settings=settings, **lines)


def _without_blanks(line: str) -> str:
    """A commented line without its blanks, ending and the ``php_`` and ``.dll`` that may be written out."""
    words = "".join(line.split()).lower()
    return words.replace("=php_", "=").removesuffix(".dll")
