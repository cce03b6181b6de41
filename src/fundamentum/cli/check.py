"""``fundamentum check``."""

import argparse
import shlex
import sys
from datetime import date

from fundamentum.check.judge import check
from fundamentum.check.offers import Market
from fundamentum.cli.applications import applications
from fundamentum.cli.servers import selectors, server
from fundamentum.entries import entry
from fundamentum.plan.advice import advised
from fundamentum.report.check_document import check_document
from fundamentum.report.escape import as_json
from fundamentum.report.remarks import write_remarks
from fundamentum.report.stream import write_out
from fundamentum.untrusted.secrets import without_credentials


def run(options: argparse.Namespace) -> int:
    """Judge every application; 1 if one of them lacks something required."""
    wanted = applications(options)
    survey = server(options, wanted)
    market = Market(survey)
    named = selectors(options, survey)
    found = (check(needs, survey, one, market) for needs, one in zip(wanted, named, strict=True))
    judgements = [advised(judgement, survey, market) for judgement in found]
    if options.format == "json":
        write_out(as_json(check_document(judgements, survey, today=date.today())))
    else:
        write_remarks(survey, judgements)
        text = entry("fundamentum.report", "text")  # brings a terminal library that JSON does not need
        console, following = text.console_for(sys.stdout), _following(options)
        text.write_check(console, judgements, survey, today=date.today(), following=following)
    return 0 if all(one.satisfied for one in judgements) else 1


def _following(options: argparse.Namespace) -> str:
    """The command that plans what is missing; empty where that would repeat what may be a password."""
    words = ["fundamentum", "plan", *options.applications]
    for name in ("server", "runtime", "directory"):
        words += [f"--{name}", value] if (value := getattr(options, name)) else []
    command = shlex.join(words)
    return "" if without_credentials(command) != command else command
