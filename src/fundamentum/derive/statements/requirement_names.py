"""How those parts of a program are called that look at what it requires."""

import re
from typing import Final

OF_REQUIREMENTS: Final = "requirements"
"""Stands among the names around a check of which something comes where requirements are looked at."""
_LOOKED_AT: Final = re.compile(
    r"requir|environment|middleware|instal|setup|wizard|doctor|preflight|diagnos|prerequisit|health|dependenc|compatib|^checks?\.|"
    r"ensure|config(?:uration)?_?(?:test|check)|sys(?:tem)?_?(?:info|check|test|req)|check_?(?:ext|php|req|sys|server|env|dep|mod)|ext(?:ensions?)?_?check|"
    r"(?:kernel|application|app|boot(?:strap\w*)?) (?:boot\w*|init\w*|run|start|setup|__construct)\b",
    re.I,
)
"""Names of files, classes and functions where extensions and settings are looked at."""

_SWITCHED_ON: Final = re.compile(r"(?:^|[ _])(?:on_?)?activat(?:e|ion)\b")
"""Names of functions that run when a plug-in is switched on."""
_INSTALLERS: Final = re.compile(
    r"(?:^|/)(?:install(?:er|ation)?|setup|wizard|requirements?|preflight|diagnos\w*|health|(?:health[-_]?)?checks?)/(?:[^/]+/)?[^/]*$",
    re.I,
)


def of_an_installer(path: str) -> bool:
    """Whether a file stands in the directory of an installer or the like, or one below it."""
    return _INSTALLERS.search(path) is not None


def looks_at_requirements(path: str, around: str) -> bool:
    """Whether a file, or the class and function in it (``around``), is there to look at what the program requires."""
    named = _LOOKED_AT.search(f"{path.rpartition('/')[2]} {around}") or _SWITCHED_ON.search(around)
    return of_an_installer(path) or named is not None
