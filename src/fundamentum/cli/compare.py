"""``fundamentum compare``."""

import argparse
import sys

from fundamentum.check.comparison import compare, compare_for
from fundamentum.cli.applications import application
from fundamentum.entries import entry
from fundamentum.kinds import asked_by
from fundamentum.report import comparison
from fundamentum.report.escape import as_json
from fundamentum.report.stream import write_out
from fundamentum.survey.reference import look


def run(options: argparse.Namespace) -> int:
    """Hold two servers, or one server then and now, side by side; 1 if something differs."""
    applications = [application(word) for word in options.applications]
    asked = asked_by(applications)
    references = (options.first, options.second)
    surveys = [look(ref, sudo=options.sudo, ask=options.ask, asked=asked) for ref in references]
    found = compare_for(applications, *surveys) if applications else compare(*surveys)
    names = (surveys[0].server, surveys[1].server)
    if options.format == "json":
        write_out(as_json(comparison.compare_document(*names, found)))
    else:
        about = "to " + " and ".join(needs.name for needs in applications) if applications else "for PHP"
        console = entry("fundamentum.report", "terminal").console_for(sys.stdout)
        comparison.write_comparison(console, *names, found, about)
    return 1 if found else 0
