"""``fundamentum survey``."""

import argparse
import sys

from fundamentum.cli import inputs
from fundamentum.report import text
from fundamentum.server.survey import written


def run(options: argparse.Namespace) -> int:
    """Record a server, or show a summary of it."""
    survey = inputs.server(options.server)
    text.write_remarks(survey)
    if options.output is None:
        text.write_survey(text.console_for(sys.stdout), survey)
    elif options.output == "-":
        sys.stdout.buffer.write(written(survey))
    else:
        inputs.write_whole(options.output, written(survey))
    return 0
