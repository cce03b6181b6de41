"""How those parts of a program are called that look at what it requires."""

import re
from typing import Final

LOOKED_AT: Final = re.compile(
    r"requir|environment|instal|setup|preflight|diagnos|prerequisit|health|dependenc|compatib|^check\.|"
    r"sys(?:tem)?_?(?:info|check|test|req)|check_?(?:ext|php|req|sys|server|env|dep|mod)",
    re.I,
)
"""Names of files, classes and functions where extensions and settings are looked at."""
