"""``fundamentum trace``."""

import argparse
import sys

from fundamentum.check.trace import trace
from fundamentum.cli.applications import application
from fundamentum.cli.servers import server
from fundamentum.errors import InputError
from fundamentum.report import terminal
from fundamentum.report.remarks import write_remarks
from fundamentum.report.trace_text import write_traces


def run(options: argparse.Namespace) -> int:
    """Say everything about one extension, setting, package or command on a server."""
    applications = [application(word) for word in options.applications]
    survey = server(options, applications, commands=[options.name.removeprefix("command:")])
    found = trace(options.name, survey, applications)
    if not found:
        raise InputError(
            options.name,
            f"no extension, setting, package or command of that name is known, on {survey.server} or at all",
        )
    write_remarks(survey)
    write_traces(terminal.console_for(sys.stdout), found, survey.server)
    return 0
