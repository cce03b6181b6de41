"""``fundamentum plan``."""

import argparse
import io
import sys
from datetime import date

from fundamentum.cli.applications import applications
from fundamentum.cli.output import write_below, write_whole
from fundamentum.cli.servers import selectors, server
from fundamentum.entries import entry
from fundamentum.plan.planner import plan
from fundamentum.untrusted.files import named


def run(options: argparse.Namespace) -> int:
    """Plan for the applications; 1 if the plan leaves something required unmet."""
    wanted = applications(options)
    survey = server(options, wanted)
    added: list[str] = []
    for word in options.index:
        survey, more = entry("fundamentum.survey", "added_index").with_index(survey, word)
        added += more
    sites = selectors(options, survey)
    made = plan(wanted, survey, sites, today=date.today(), recommended=not options.required_only, added=added)
    if options.write_files is not None:
        named(options.write_files, "the folder to write to")
        for path, content in [
            *((file.path, file.content) for file in made.files),
            *((f"{e.path}.diff", e.diff) for e in made.edits),
        ]:
            write_below(options.write_files, path, content.encode("utf-8", "backslashreplace"))
    form = entry("fundamentum.report.plans", options.format)
    if options.output == "-":
        form.write(sys.stdout, made, survey, full=options.full)
    else:
        written = io.StringIO()
        form.write(written, made, survey, full=options.full)
        write_whole(options.output, written.getvalue().encode("utf-8", "backslashreplace"))
    return 0 if made.complete else 1
