"""The reasons that a verdict gives, in words, and what speaks for a library."""

from collections.abc import Sequence

from fundamentum.derive.beside.manifest_tables import under_vendor
from fundamentum.derive.beside.stated import Stated
from fundamentum.derive.result import Place
from fundamentum.derive.weighing.evidence import Evidence
from fundamentum.derive.weighing.places import stated_place
from fundamentum.derive.weighing.seen import Seen


def why(stated: Stated) -> str:
    """The reason that a statement gives itself, behind a colon."""
    return f": {stated.why}" if stated.why else ""


def places_of(statements: Sequence[Stated], what: str) -> list[Place]:
    """Where some statements stand.  ``what``: what they say."""
    return [stated_place(statement.where, what) for statement in statements]


def states_its_needs(evidence: Evidence, library: str) -> bool:
    """Whether a package manager's manifest speaks for it; elsewhere one is often left over from somebody else."""
    stated = evidence.manifest.stated
    named = library in stated or any(library.endswith("/" + name) for name in stated)
    return named and under_vendor(library)


def why_optional(strong: Sequence[Seen]) -> str:
    """Why some uses do not make an extension required."""
    if all(seen.guard == "checked" for seen in strong):
        return "used only behind a check whether it is there"
    if all(seen.guard in ("checked", "caught", "explained") for seen in strong):
        return "used only where its absence is caught or explained"
    if all(seen.driver or seen.file.part == "optional" or seen.guard for seen in strong):
        return "used only in parts that are chosen: drivers, plugins, or behind a check"
    return "used only in parts that need not run"
