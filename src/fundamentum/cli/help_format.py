"""How help is laid out: as wide as the terminal.

The formatters of ``argparse`` find that out by :mod:`shutil`, which loads the libraries of three kinds of archives, and
they are made for every argument that is added, whether help is asked for or not.
"""

import argparse
import os


class Help(argparse.HelpFormatter):
    """Help whose description is laid out anew."""

    def __init__(self, prog: str, indent_increment: int = 2, max_help_position: int = 24, width: int = 0) -> None:
        super().__init__(prog, indent_increment, max_help_position, width or _columns() - 2)


class HelpAsWritten(Help, argparse.RawDescriptionHelpFormatter):
    """Help whose description and epilog keep their lines."""


def _columns() -> int:
    """The columns of the terminal, or what the environment says; 80 where there is none."""
    said = os.environ.get("COLUMNS", "")
    if said.isascii() and said.isdecimal() and int(said) > 0:
        return int(said)
    try:
        return os.get_terminal_size(1).columns or 80
    except OSError:  # no terminal
        return 80
