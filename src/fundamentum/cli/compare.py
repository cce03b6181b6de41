"""``fundamentum compare``."""

import argparse
import sys
from collections.abc import Sequence

from fundamentum.check.survey_differences import Difference, compare, compare_for
from fundamentum.cli.applications import application
from fundamentum.cli.arguments import PLAN_FILE
from fundamentum.entries import entry
from fundamentum.errors import InputError
from fundamentum.kinds import asked_by
from fundamentum.report import difference_formats
from fundamentum.report.escape import as_json
from fundamentum.report.written_text import write_out
from fundamentum.survey.server_reference import look
from fundamentum.untrusted.files import named


def run(options: argparse.Namespace) -> int:
    """Hold two servers, one server then and now, or two plans side by side; 1 if something differs."""
    plans = [word.endswith(PLAN_FILE) for word in (options.first, options.second)]
    names, differences, about = _plans(options) if any(plans) else _servers(options)
    if options.format == "json":
        write_out(as_json(difference_formats.compare_document(*names, differences)))
    else:
        console = entry("fundamentum.report", "terminal").console_for(sys.stdout)
        difference_formats.write_comparison(console, *names, differences, about)
    return 1 if differences else 0


def _servers(options: argparse.Namespace) -> tuple[tuple[str, str], Sequence[Difference], str]:
    applications = [application(word) for word in options.applications]
    asked = asked_by(applications)
    references = (options.first, options.second)
    surveys = [look(ref, sudo=options.sudo, ask=options.ask, asked=asked) for ref in references]
    differences = compare_for(applications, *surveys) if applications else compare(*surveys)
    about = "to " + " and ".join(needs.name for needs in applications) if applications else "for PHP"
    return (surveys[0].server, surveys[1].server), differences, about


def _plans(options: argparse.Namespace) -> tuple[tuple[str, str], Sequence[Difference], str]:
    if options.applications:
        raise InputError(options.applications[0], "is one thing too many: a plan is compared with a plan, whole")
    load_plan = entry("fundamentum.report", "plan_document").load_plan
    first, second = (load_plan(named(word, "a plan")) for word in (options.first, options.second))
    differences = entry("fundamentum.plan", "plan_differences").plan_differences
    return (options.first, options.second), differences(first, second), "to those who carry it out"
