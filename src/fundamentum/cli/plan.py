"""``fundamentum plan``."""

import argparse
import io
import sys
from datetime import date

from fundamentum.cli.applications import applications
from fundamentum.cli.arguments import PLAN_FILE
from fundamentum.cli.output import write_below, write_whole
from fundamentum.cli.servers import selectors, server
from fundamentum.entries import entry
from fundamentum.errors import InputError
from fundamentum.model.survey import Survey
from fundamentum.plan.made_plan import Plan
from fundamentum.untrusted.files import named


def run(options: argparse.Namespace) -> int:
    """Plan for the applications, or read a plan; 1 if it leaves something required unmet."""
    made, survey = _made(options) if options.plan_file is None else (_read(options), None)
    if options.write_files is not None:
        named(options.write_files, "the folder to write to")
        for path, content in [
            *((file.path, file.content) for file in made.files),
            *((f"{e.path}.diff", e.diff) for e in made.edits),
        ]:
            write_below(options.write_files, path, content.encode("utf-8", "backslashreplace"))
    implied = "json" if options.output.endswith(PLAN_FILE) else "text"
    form = entry("fundamentum.report.plans", options.format or implied)
    if options.output == "-":
        form.write(sys.stdout, made, survey, full=options.full)
    else:
        written = io.StringIO()
        form.write(written, made, survey, full=options.full)
        write_whole(options.output, written.getvalue().encode("utf-8", "backslashreplace"))
    return 0 if made.complete else 1


def _made(options: argparse.Namespace) -> tuple[Plan, Survey]:
    if not options.applications:
        raise InputError("plan", "needs an APP, or --from and a plan that is made already")
    wanted = applications(options)
    survey = server(options, wanted)
    added: list[str] = []
    for word in options.index:
        survey, more = entry("fundamentum.survey", "added_index").with_index(survey, word)
        added += more
    sites = selectors(options, survey)
    recommended = not options.required_only
    planner = entry("fundamentum.plan", "planner")
    return planner.plan(wanted, survey, sites, today=date.today(), recommended=recommended, added=added), survey


def _read(options: argparse.Namespace) -> Plan:
    """A plan that was written as JSON."""
    given = [*options.applications, *options.index, *filter(None, (options.server, options.runtime, options.directory))]
    if given or options.required_only:
        raise InputError("--from", "reads a plan that is made already: what to plan for, and where, stands in it")
    plan: Plan = entry("fundamentum.report", "plan_document").load_plan(named(options.plan_file, "a plan"))
    return plan
