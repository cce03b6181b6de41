"""Of several releases of one application, the newest that a server can run."""

from collections.abc import Sequence
from typing import Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.findings import Judgement

_PART: Final = lazy_regex(r"\d+|[a-z]+")
_END: Final = (0, 0, "~")
"""Behind letters, as those of ``2.0rc1``, and before numbers, as that of ``2.0.1``."""


def release_key(version: str) -> tuple[tuple[int, int, str], ...]:
    """By what releases are ordered: ``2.0rc1`` before ``2.0`` before ``2.0.1`` before ``2.10``."""
    parts = _PART.findall(version.lower().removeprefix("v"))
    return (*((1, int(part), "") if part.isdigit() else (0, 0, part) for part in parts), _END)


def newest(judgements: Sequence[Judgement]) -> Judgement | None:
    """The newest release of which every required need is met; of those without a version the last one named."""
    fitting = [judgement for judgement in judgements if judgement.satisfied]
    ordered = sorted(enumerate(fitting), key=lambda pair: (release_key(pair[1].needs.version or ""), pair[0]))
    return ordered[-1][1] if ordered else None
