"""Which branch of PHP an application advises, beside those that it accepts."""

from collections.abc import Iterable, Iterator

from fundamentum.derive.result import Entry, Place, advised_branch
from fundamentum.derive.statements.statements import Statements
from fundamentum.model.constraints import common, intervals, version_range
from fundamentum.model.versions import VersionRange


def advised_php(php: Entry | None, told: Iterable[Entry]) -> Iterator[Entry]:
    """The first branch of those that are advised which the application accepts.

    None where all that it accepts is as good: from a branch on that is not above the least.
    """
    accepted = version_range(php.value) if php and php.value else VersionRange()
    for entry in told:
        branch = entry.value.rstrip("+")
        below = f"<{branch}" if branch != entry.value else "*"
        if accepted.accepts_branch(branch) and common(intervals(php.value if php else "*"), intervals(below)):
            yield entry
            return


def advised_by_itself(said: Statements) -> Iterator[Entry]:
    """What the program itself advises: the highest first."""
    for bound in sorted(said.advised, key=lambda bound: tuple(map(int, bound.version.split("."))), reverse=True):
        place = Place(bound.path, bound.line, bound.what, "the program advises it")
        branch = ".".join([*bound.version.split("."), "0"][:2])
        yield advised_branch(f"{branch}+", "the program itself advises it", place)
