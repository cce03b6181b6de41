"""The identifier of a need: findings carry it, and acceptances and notes rest on it.  It is published and stays."""


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

    def covers(self, other: str) -> bool:
        """Whether the other is the same need, or one of this one's alternatives."""
        return self == other or any(other == f"{self.kind}:{name}" for name in self.names)
