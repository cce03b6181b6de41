"""``fundamentum survey``."""

import argparse
import sys
from datetime import date

from fundamentum.check.asked import asked_by
from fundamentum.cli import inputs
from fundamentum.report import text
from fundamentum.report.summary import write_survey
from fundamentum.survey.survey_file import written


def run(options: argparse.Namespace) -> int:
    """Record a server, show a summary of it, or print the script that records it elsewhere."""
    wanted = [inputs.application(word) for word in options.applications]
    if options.recorder:
        from fundamentum.survey import recorder  # noqa: PLC0415

        _write(options.output or "-", recorder.script(asked_by(wanted)).encode())
        return 0
    survey = inputs.server(options, wanted)
    text.write_remarks(survey)
    if options.output is None:
        write_survey(text.console_for(sys.stdout), survey, date.today())
    else:
        _write(options.output, written(survey))
    return 0


def _write(target: str, content: bytes) -> None:
    if target == "-":
        sys.stdout.buffer.write(content)
    else:
        inputs.write_whole(target, content)
