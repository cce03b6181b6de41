"""The identifier of a need: findings carry it, and acceptances and notes rest on it.  It is published and stays."""

from typing import Final

_NAMES: Final = {
    "php": "PHP",
    "uploads:largest": "largest upload",
    "uploads:files": "files in one upload",
    "requests:longest": "longest request",
    "forms:fields": "fields in a form",
    "host:time_zone": "time zone",
    "host:https": "HTTPS",
    "host:disk": "free disk",
}
"""Those whose words are not made of their kind and what they are about."""


class NeedId(str):
    """``php``, or a kind and what it is about, alternatives joined with a bar: ``extension:pdo_mysql|pdo_pgsql``."""

    __slots__ = ()

    @property
    def kind(self) -> str:
        """``extension`` of ``extension:gd``."""
        return self.partition(":")[0]

    @property
    def names(self) -> tuple[str, ...]:
        """What it is about: one name, or each of several alternatives."""
        about = self.partition(":")[2]
        return tuple(about.split("|")) if about else ()

    @property
    def named(self) -> str:
        """Its own name, where it has one that is not made of its parts; else empty."""
        return _NAMES.get(self, "")

    @property
    def words(self) -> str:
        """For a person: *extension pdo_mysql or pdo_pgsql*."""
        kind = "" if self.kind == "host" else self.kind
        return self.named or f"{kind} {' or '.join(self.names)}".strip()

    def covers(self, other: str) -> bool:
        """Whether the other is the same need, or one of this one's alternatives."""
        return self == other or any(other == f"{self.kind}:{name}" for name in self.names)
