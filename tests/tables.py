"""Tables of cases, which are kept as data beside the tests that use them."""

import json
from pathlib import Path
from typing import Any

_HERE = Path(__file__).parent


def table(name: str) -> Any:
    """The table in that file below ``tests``, such as ``catalog/quantities.json``."""
    return json.loads((_HERE / name).read_text("utf-8"))


QUANTITIES: list[tuple[str, int]] = [(text, number) for text, number in table("catalog/quantities.json")]
"""Texts and the numbers that PHP makes of them, as ``ini_parse_quantity`` said."""
INI: list[tuple[str, dict[str, str] | None]] = [(text, made) for text, made in table("php_files/ini_cases.json")]
"""Texts in PHP's ini dialect and what ``parse_ini_string`` made of them; None where it took them for broken."""
INI_CONSTANTS = {"E_ALL": "32767", "E_NOTICE": "8"}
CONSTRUCTS: dict[str, tuple[str, str, str, bool]] = {
    name: (first, last, code, told) for name, (first, last, code, told) in table("derive/constructs.json").items()
}
"""One small file for each construct that bounds the version of PHP: first branch, first branch without it, code, and
whether PHP's own check of the syntax can tell."""
