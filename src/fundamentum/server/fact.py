"""What all facts about a server have in common."""

from typing import Annotated, Final

import msgspec

# What ends up as a word of a command or in the name of a file is held to what such a thing can be.  Probes leave out
# what does not fit, and a survey file in which it stands is refused.
PLAIN: Final = r"^[A-Za-z0-9_][A-Za-z0-9_.+@-]*$"
PlainName = Annotated[str, msgspec.Meta(pattern=PLAIN, max_length=200)]
PackageName = Annotated[str, msgspec.Meta(pattern=r"^[A-Za-z0-9][A-Za-z0-9+._-]*$", max_length=200)]
BranchName = Annotated[str, msgspec.Meta(pattern=r"^[0-9]+\.[0-9]+$", max_length=10)]
FilePath = Annotated[str, msgspec.Meta(pattern=r"^/$|^(/[A-Za-z0-9_+@ (-][A-Za-z0-9_.+@ ()-]*)+$", max_length=1000)]


class Fact(msgspec.Struct, frozen=True, omit_defaults=True, forbid_unknown_fields=True):
    """Base of all values in a survey: unknown fields in a file are an error, defaults are not written."""
