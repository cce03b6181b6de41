"""Formats of a plan: one file for each, found by its name.

An entry has ``write(stream, plan, survey, full=False)``, which writes long lists whole where ``full`` is so.  It is a
loop over the plan's steps, each of which is one of few primitive operations (:mod:`fundamentum.changes.primitives`), so
that a new kind of change is told, and carried out, in every format.
"""

from fundamentum import entries


def names() -> tuple[str, ...]:
    """The formats that there are."""
    return entries.names(__name__)
