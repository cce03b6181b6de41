"""What can be asked of PHP itself about a directive that is as wanted."""

from collections.abc import Iterator

from fundamentum.kinds.base import Context
from fundamentum.model.findings import Finding
from fundamentum.model.promises import Promise
from fundamentum.untrusted.secrets import WITHHELD, names_a_secret


def value_promised(finding: Finding, name: str, context: Context) -> Iterator[Promise]:
    """That a directive has its value; none where PHP has no such directive, or the value may be a secret."""
    setting = context.target.runtime.settings.get(name)
    if setting and setting.value is not None and not names_a_secret(name) and WITHHELD not in setting.value:
        yield Promise(finding.need, "setting", name, setting.value)
