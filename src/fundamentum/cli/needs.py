"""``fundamentum needs``."""

import argparse
import sys

from fundamentum.cli.applications import application
from fundamentum.entries import entry


def run(options: argparse.Namespace) -> int:
    """Check needs files, and say what each of their entries means."""
    needs = [application(word) for word in options.applications]
    terminal = entry("fundamentum.report", "terminal")
    entry("fundamentum.report", "needs_text").write_needs(terminal.console_for(sys.stdout), needs)
    return 0
