"""``fundamentum plan``."""

import argparse
import io
import sys
from datetime import date
from typing import IO, Any

from fundamentum.cli.applications import applications
from fundamentum.cli.output import write_below, write_whole
from fundamentum.cli.servers import selectors, server
from fundamentum.entries import entry
from fundamentum.model.plan import Plan
from fundamentum.plan.planner import plan
from fundamentum.report.escape import as_json
from fundamentum.report.plan_document import plan_document
from fundamentum.report.remarks import write_remarks
from fundamentum.report.stream import write_out
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
            *((one.path, one.content) for one in made.files),
            *((f"{e.path}.diff", e.diff) for e in made.edits),
        ]:
            write_below(options.write_files, path, content.encode("utf-8", "backslashreplace"))
    if options.format == "text" and options.output == "-":
        write_remarks(survey, made.before)
        entry("fundamentum.report", "plan_text").write_plan(_console(sys.stdout), made)
    elif options.output == "-":
        write_out(_written(made, options.format))
    else:
        write_whole(options.output, _written(made, options.format).encode("utf-8", "backslashreplace"))
    return 0 if made.complete else 1


def _written(made: Plan, form: str) -> str:
    if form == "json":
        return as_json(plan_document(made))
    if form in ("script", "playbook"):
        written: str = getattr(entry("fundamentum.report", form), f"as_{form}")(made)
        return written
    out = io.StringIO()
    entry("fundamentum.report", "plan_text").write_plan(_console(out), made)
    return out.getvalue()


def _console(stream: IO[str]) -> Any:
    return entry("fundamentum.report", "text").console_for(stream)
