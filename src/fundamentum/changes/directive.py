"""Give a directive of PHP another value, in a file of its own that is read after those that set it now."""

import posixpath
from collections.abc import Iterator
from typing import Literal

from msgspec.structs import replace

from fundamentum.catalog import facts
from fundamentum.catalog.setting_line import ini_text, value_read
from fundamentum.changes.base import NewValue, Place
from fundamentum.changes.extension_line import ini_line, with_sample
from fundamentum.changes.file_operations import Line, WriteFile
from fundamentum.changes.primitives import Primitive
from fundamentum.model.origin import Origin, Overridden
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


class SetDirective(NewValue, frozen=True):
    """Set a directive for a pool, or for everything that reads a directory or a php.ini."""

    FILLS = "settings"
    file: str
    runtime: str
    pool: str | None = None
    """The pool, where only a pool's own configuration can win."""
    admin: bool = False
    """Whether the pool's line is the administrator's, which no application can change: where one decides now."""

    @property
    def key(self) -> str:
        return f"set:{self.runtime}:{self.name}"

    @property
    def line(self) -> str:
        """The line in the syntax of its file."""
        text = ini_text(self.after) or ""
        name = f"{'php_admin_value' if self.admin else 'php_value'}[{self.name}]" if self.pool else self.name
        return f"{name} = {text}".rstrip()

    def words(self, offers: Offers) -> str:
        return f"set {self.line} in {self.file}"

    def concerns(self, runtime: Runtime) -> bool:
        return self.runtime == runtime.label or posixpath.dirname(self.file) == runtime.scan_dir

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        return replace(survey, runtimes=tuple(self._set(runtime) for runtime in survey.runtimes))

    def _set(self, runtime: Runtime) -> Runtime:
        mine = runtime.label == self.runtime
        same_folder = f"{runtime.scan_dir}/" == self.file[: self.file.rfind("/") + 1]
        same_file = not runtime.scan_dir and (mine or (runtime.home != "" and runtime.main_ini == self.file))
        same = mine if self.pool else same_folder or same_file
        if not same or self.name not in runtime.settings:
            return runtime
        runtime = with_sample(runtime) if runtime.main_ini == self.file and not self.pool else runtime
        before = runtime.settings[self.name]
        if not self.pool and before.set_by != "ini":
            return runtime  # what is stronger than ini files stays as it is: this pool's own value, or another's
        lost = () if before.origin.built_in else (Overridden(before.origin, before.value),)
        by: Literal["pool", "ini"] = "pool" if self.pool else "ini"
        line = f"{self.name} = {ini_text(self.after) or ''}"
        value = value_read(line, "ini", self.name, facts(runtime.branch).constants)
        made = Setting(value, Origin(self.file, 1), lost, admin=self.admin, set_by=by)
        return replace(runtime, settings={**runtime.settings, self.name: made})

    def lowered(self, place: Place) -> Iterator[Primitive]:
        if not self.pool:
            yield ini_line(self.file, self.runtime, place, self.line, self.name)
        kept = list(self._kept(place.survey))
        if self.pool:
            lines = [Line(f"[{self.pool}]", 1, "pool", planned=False), Line(self.line, 9, self.name)]
            yield WriteFile(self.file, pool_heading(place), (*lines, *kept))
        elif kept:
            yield WriteFile(self.file, pool_heading(place), tuple(kept))

    def _kept(self, survey: Survey) -> Iterator[Line]:
        """What an earlier plan put into the same file, and still counts."""
        for runtime in survey.runtimes:
            for name, setting in runtime.settings.items():
                if setting.origin.set_in == self.file != runtime.ini_file and setting.value is not None:
                    was = SetDirective(name, None, setting.value, self.file, "", self.pool, setting.admin)
                    yield Line(was.line, 9, name, planned=False)


def pool_heading(place: Place) -> str:
    """The first line of a file with limits."""
    return f"; Limits for {place.label}, as planned by fundamentum."
