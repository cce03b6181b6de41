"""``fundamentum check``."""

import argparse
import sys
from datetime import date

from fundamentum.check.judge import check
from fundamentum.check.offers import Market
from fundamentum.cli import inputs
from fundamentum.report.check_document import check_document
from fundamentum.report.escape import as_json
from fundamentum.report.remarks import write_remarks
from fundamentum.report.stream import write_out


def run(options: argparse.Namespace) -> int:
    """Judge every application; 1 if one of them lacks something required."""
    applications = inputs.applications(options)
    survey = inputs.server(options, applications)
    market = Market(survey)
    named = inputs.selectors(options, survey)
    judgements = [check(needs, survey, one, market) for needs, one in zip(applications, named, strict=True)]
    if options.format == "json":
        write_out(as_json(check_document(judgements, survey, today=date.today())))
    else:
        from fundamentum.report import text  # noqa: PLC0415 — needs a terminal library that JSON does not

        write_remarks(survey, judgements)
        text.write_check(text.console_for(sys.stdout), judgements, survey, today=date.today())
    return 0 if all(one.satisfied for one in judgements) else 1
