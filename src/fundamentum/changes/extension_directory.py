"""Tell PHP where its extension files lie."""

from collections.abc import Iterator
from typing import Any

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.extension_line import ini_line, with_sample
from fundamentum.changes.primitives import Primitive
from fundamentum.model.php import Loaded, Runtime
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


class SetExtensionDirectory(Change, frozen=True):
    """Set ``extension_dir`` in the php.ini, so that the files that its lines name are found."""

    FILLS = "settings"
    line: str
    file: str
    runtime: str

    @property
    def key(self) -> str:
        return f"directory:{self.file}:extension_dir"

    @property
    def about(self) -> str:
        return "extension_dir"

    @property
    def effect(self) -> str:
        return self.line.partition("=")[2].strip()

    def words(self, offers: Offers) -> str:
        return f"set {self.line} in {self.file}"

    def concerns(self, runtime: Runtime) -> bool:
        return self.runtime == runtime.label

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        like = next((runtime for runtime in survey.runtimes if runtime.label == self.runtime), None)
        branch = survey.branch_of(like) if like else None
        there = {module.name for module in branch.modules if module.misfit is None} if branch else set()

        def changed(runtime: Runtime) -> Runtime:
            if like is None or (runtime.home, runtime.main_ini) != (like.home, self.file):
                return runtime
            loaded = tuple(_found(extension, there) for extension in runtime.extensions)
            return replace(with_sample(runtime), extensions=loaded, extension_dir_line="")

        return replace(survey, runtimes=tuple(map(changed, survey.runtimes)))

    def lowered(self, place: Place) -> Iterator[Primitive]:
        yield ini_line(self.file, self.runtime, place, self.line, "extension_dir")

    def row(self) -> dict[str, Any]:
        row = {"name": "extension_dir", "from": None, "to": self.effect, "file": self.file}
        return row | {"site": None, "runtime": self.runtime}


def _found(extension: Loaded, there: set[str]) -> Loaded:
    absent = extension.fault is not None and extension.fault.kind == "absent"
    return replace(extension, fault=None) if absent and extension.name in there else extension
