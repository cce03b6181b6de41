"""What all facts about a server have in common."""

import msgspec


class Fact(msgspec.Struct, frozen=True, omit_defaults=True, forbid_unknown_fields=True):
    """Base of all values in a survey: unknown fields in a file are an error, defaults are not written."""
