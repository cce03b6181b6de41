"""The value of a directive that counts, where another directive has a say in it."""

from fundamentum.catalog import follows
from fundamentum.model.findings import Target


def value_that_counts(name: str, value: str, target: Target) -> str:
    """The value that counts, where a special value means that another directive's does."""
    other = follows(name, value)
    setting = target.runtime.settings.get(other) if other else None
    return setting.value if setting and setting.value is not None else value
