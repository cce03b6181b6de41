"""What can be done about a need that is not met: one file for each kind of change to a server.

An entry has a class (:class:`~fundamentum.changes.base.Change`) that tells everything about such a change: what it is
about in a word or two and in a sentence, what a server is once it has been carried out (a pure function on surveys),
which services have to read it, and the few primitive operations (:mod:`fundamentum.changes.primitives`) that carry it
out.  Every output renders those primitives, so that a new kind of change is one file here and nothing elsewhere.
"""

from fundamentum import entries

_NO_ENTRIES = frozenset({"base", "file_operations", "extension_loading", "primitives", "server_operations", "steps"})


def names() -> tuple[str, ...]:
    """The kinds of changes that there are."""
    return entries.names(__name__, _NO_ENTRIES)
