"""``fundamentum plan``."""

import argparse
import io
import sys
from datetime import date

from fundamentum.cli import inputs
from fundamentum.model.plan import Plan
from fundamentum.plan.planner import plan
from fundamentum.report.escape import as_json
from fundamentum.report.plan_document import plan_document
from fundamentum.report.remarks import write_remarks
from fundamentum.report.stream import write_out
from fundamentum.untrusted.files import named


def run(options: argparse.Namespace) -> int:
    """Plan for the applications; 1 if the plan leaves something required unmet."""
    applications = inputs.applications(options)
    survey = inputs.server(options, applications)
    added: list[str] = []
    for word in options.index:
        from fundamentum.survey.added_index import with_index  # noqa: PLC0415

        survey, more = with_index(survey, word)
        added += more
    named_sites = inputs.selectors(options, survey)
    made = plan(
        applications, survey, named_sites, today=date.today(), recommended=not options.required_only, added=added
    )
    if options.write_files is not None:
        named(options.write_files, "the folder to write to")
        for path, content in [
            *((one.path, one.content) for one in made.files),
            *((f"{e.path}.diff", e.diff) for e in made.edits),
        ]:
            inputs.write_below(options.write_files, path, content.encode("utf-8", "backslashreplace"))
    if options.format == "text" and options.output == "-":
        from fundamentum.report import text  # noqa: PLC0415
        from fundamentum.report.plan_text import write_plan  # noqa: PLC0415

        write_remarks(survey, made.before)
        write_plan(text.console_for(sys.stdout), made)
    elif options.output == "-":
        write_out(_written(made, options.format))
    else:
        inputs.write_whole(options.output, _written(made, options.format).encode("utf-8", "backslashreplace"))
    return 0 if made.complete else 1


def _written(made: Plan, form: str) -> str:
    if form == "json":
        return as_json(plan_document(made))
    if form == "script":
        from fundamentum.report.script import as_script  # noqa: PLC0415

        return as_script(made)
    if form == "playbook":
        from fundamentum.report.playbook import as_playbook  # noqa: PLC0415

        return as_playbook(made)
    from fundamentum.report.plan_text import write_plan  # noqa: PLC0415
    from fundamentum.report.text import console_for  # noqa: PLC0415

    out = io.StringIO()
    write_plan(console_for(out), made)
    return out.getvalue()
