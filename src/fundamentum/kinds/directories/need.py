"""What an application wants of a directory, and where on a server that directory is."""

from typing import Literal

from fundamentum.effective.judged_sites import sites_of
from fundamentum.kinds.table_reader import PATH
from fundamentum.model.application_paths import candidates
from fundamentum.model.findings import Target
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, NotUnderstood, Value
from fundamentum.model.surrounding_facts import Place
from fundamentum.model.survey import Survey


class DirectoryNeed(Value, frozen=True):
    """One directory: absolute, or below the one in which the application stands."""

    path: str
    level: Level
    access: Literal["there", "writable", "read-only"] = "there"
    outside: bool = False
    """Whether no web server may hand out what is in it."""

    @property
    def key(self) -> NeedId:
        return NeedId(f"directory:{self.path}")

    @property
    def text(self) -> str:
        """As it is written."""
        return ", ".join([self.access, *(["outside"] if self.outside else [])])


def directory(path: str, text: str, level: Level) -> DirectoryNeed:
    """One entry of a table of directories: ``writable``, ``read-only``, ``there``, each with or without ``outside``."""
    if not PATH.fullmatch(path) or ".." in path.split("/"):
        raise NotUnderstood(f"'{path}' is no path of a directory; letters, digits and . _ @ + - / are possible")
    words = [word.strip() for word in text.split(",")]
    access = [word for word in words if word in ("there", "writable", "read-only")]
    if len(access) > 1 or any(word not in (*access, "outside") for word in words) or len(set(words)) < len(words):
        raise NotUnderstood(
            f'\'{text}\' is not understood; write "writable", "read-only", "outside" or "writable, outside"'
        )
    kind: Literal["there", "writable", "read-only"] = access[0] if access else "there"  # type: ignore[assignment]
    return DirectoryNeed(path.rstrip("/"), level, kind, "outside" in words)


def placed(path: str, survey: Survey, target: Target) -> Place | None:
    """The place that is meant: the first candidate that exists, else the likeliest one."""
    places = {place.path: place for place in survey.places}
    paths = candidates(path, sites_of(survey, target))
    known = [places[path] for path in paths if path in places]
    return next((place for place in known if place.kind != "absent"), known[0] if known else None)
