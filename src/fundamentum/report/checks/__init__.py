"""Formats of a check: one file for each, found by its name.

An entry has ``write(stream, judgements, survey, today, following)``: what the runtimes lack, and with ``following`` the
command that plans for it.
"""

from fundamentum import entries


def names() -> tuple[str, ...]:
    """The formats that there are."""
    return entries.names(__name__)
