"""What is missing where a use runs, as an answer says that another place keeps under a name.

``define('HAS_GMP', extension_loaded('gmp'));`` in one file, ``HAS_GMP ? gmp_add($a, $b) : bcadd($a, $b)`` in others.
"""

from collections.abc import Collection, Mapping

from fundamentum.derive.families import FAMILIES
from fundamentum.derive.php_source.facts import INSTEAD_OF, WITHOUT


def missing_around(
    names: Collection[str],
    extension: str,
    named_checks: Mapping[str, frozenset[str]],
    of_file: Collection[tuple[str, str]],
) -> list[str]:
    """The extensions in whose absence it runs, each as it stands among a use's names.

    ``names``: what stands around the place.
    ``extension``: the one that is used; only those count that do the same, as a name may stand for more than a check.
    ``named_checks``: names that hold the result of a check → the extensions; ``of_file``: those of the same file, each
    with the extension, among them properties and variables.
    """
    answers = [name.removeprefix(WITHOUT) for name in names if name.startswith(WITHOUT)]
    held = {rival for name in answers for rival in named_checks.get(name, ())}
    missing = (held | {rival for name, rival in of_file if name in answers}) - {extension}
    alike = {rival for family in FAMILIES.values() if extension in family for rival in family}
    return [f"{INSTEAD_OF}{rival}" for rival in sorted(missing & alike)]
