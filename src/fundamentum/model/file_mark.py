"""What a file, a directory or a user was at one time, in a form that a shell can make again.

``sha256:DIGEST`` of the content; ``time:SIZE:SECONDS`` where the content is not had as it stands, or its digest would
tell something of a secret in it (the later of the two times at which content and entry changed); ``names:DIGEST`` of a
directory's names, a line each in the order of their bytes; ``place:USER:GROUP:MODE``, by their numbers, of a directory
of which only these count; ``account:USER:GROUP,...``, by their numbers, the groups in their order, of a user, whose
name stands for the path; ``absent``.
"""

from typing import Final

from fundamentum.lazy_regex import lazy_regex

LEFTOVER: Final = r"~$|\.[a-z]+-(dist|old|new|tmp)$|\.[a-z]+(save|new|orig)$|^\."
"""Names, as an extended regular expression, that no service reads: a directory is as it was without them."""
HOST_NAME: Final = "/etc/hostname"
"""A plan is for the server of that name."""
_MARK: Final = lazy_regex(
    r"(?:sha256|names):[0-9a-f]{64}|time:\d{1,15}:\d{1,15}|place:\d{1,10}:\d{1,10}:[0-7]{1,4}"
    r"|account:\d{1,10}:\d{1,10}(?:,\d{1,10})*|absent"
)


def is_mark(text: str) -> bool:
    """Whether the text is such a mark."""
    return _MARK.fullmatch(text) is not None
