"""``fundamentum help``."""

import argparse
import sys

from fundamentum import help_topics
from fundamentum.cli.arguments import COMMANDS, parser
from fundamentum.entries import entry
from fundamentum.errors import InputError


def run(options: argparse.Namespace) -> int:
    """Print a topic, the help of a command, or what there is."""
    topic = options.topic
    if topic is None:
        sys.stdout.write(_overview())
    elif topic in help_topics.names():
        sys.stdout.write(help_topics.text_of(topic))
    elif topic in COMMANDS:
        parser(topic).parse_args([topic, "--help"])
    else:
        known = [*COMMANDS, *help_topics.names()]
        hint = entry("fundamentum.catalog", "near").did_you_mean(topic, known)
        there = f"; there are: {', '.join(known)}"
        raise InputError(topic, f"no such topic{hint or there}")
    return 0


def _overview() -> str:
    wide = max(map(len, COMMANDS))
    lines = [f"    {name.ljust(wide)}  {short}" for name, (short, _) in COMMANDS.items()]
    topics = ", ".join(help_topics.names())
    head, tail = "fundamentum help COMMAND tells the options of:", f"and there is help on: {topics}\n"
    return "\n".join([head, "", *lines, "", tail])
