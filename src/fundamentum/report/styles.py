"""The few styles that all output for a terminal uses."""

from typing import Final

STYLES: Final = {
    "unmet": "bold red",
    "recommended": "yellow",
    "met": "green",
    "dim": "dim",
    "remedy": "cyan",
    "name": "bold",
}
