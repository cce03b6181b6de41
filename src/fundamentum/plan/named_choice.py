"""The comparison of PHP branches where the choice was taken away, so that what it costs is seen."""

from collections.abc import Sequence

from msgspec.structs import replace

from fundamentum.model.php import Runtime
from fundamentum.plan.branch_choice import Candidate
from fundamentum.plan.made_plan import Decision


def as_named(
    decision: Decision, candidates: Sequence[Candidate], runtime: Runtime, everyone: tuple[str, ...]
) -> Decision:
    """The decision with the runtime that was named as the one taken, for ``everyone``, and what it would have been."""
    rows = []
    for candidate, row in zip(candidates[-len(decision.rows) :], decision.rows, strict=True):
        if (candidate.branch, candidate.target.runtime.home) == (runtime.branch, runtime.home):
            cost = "" if row.chosen_for == everyone else f", although {row.reason}"
            if row.chosen_for and row.chosen_for != everyone:
                cost = f", although it would be taken for {', '.join(row.chosen_for)} only"
            row = replace(row, chosen_for=everyone, reason=f"named with --runtime{cost}")
        elif row.chosen_for:
            reason = f"would have been taken for {', '.join(row.chosen_for)}"
            row = replace(row, chosen_for=(), reason=reason)
        rows.append(row)
    return replace(decision, rows=tuple(rows), conflict=())
