"""``fundamentum compare``."""

import argparse
import sys

from fundamentum.check.survey_differences import compare, compare_for
from fundamentum.cli.applications import application
from fundamentum.entries import entry
from fundamentum.kinds import asked_by
from fundamentum.report import difference_formats
from fundamentum.report.escape import as_json
from fundamentum.report.written_text import write_out
from fundamentum.survey.server_reference import look


def run(options: argparse.Namespace) -> int:
    """Hold two servers, or one server then and now, side by side; 1 if something differs."""
    applications = [application(word) for word in options.applications]
    asked = asked_by(applications)
    references = (options.first, options.second)
    surveys = [look(ref, sudo=options.sudo, ask=options.ask, asked=asked) for ref in references]
    found = compare_for(applications, *surveys) if applications else compare(*surveys)
    names = (surveys[0].server, surveys[1].server)
    if options.format == "json":
        write_out(as_json(difference_formats.compare_document(*names, found)))
    else:
        about = "to " + " and ".join(needs.name for needs in applications) if applications else "for PHP"
        console = entry("fundamentum.report", "terminal").console_for(sys.stdout)
        difference_formats.write_comparison(console, *names, found, about)
    return 1 if found else 0
