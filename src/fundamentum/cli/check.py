"""``fundamentum check``."""

import argparse
import shlex
import sys
from datetime import date

from fundamentum.check.judge import check
from fundamentum.cli.applications import applications
from fundamentum.cli.servers import selectors, server
from fundamentum.entries import entry
from fundamentum.errors import InputError
from fundamentum.model.findings import Judgement
from fundamentum.platforms.offers import Offers
from fundamentum.untrusted.secrets import without_credentials


def run(options: argparse.Namespace) -> int:
    """Judge every application; 1 if one of them lacks something required."""
    if not options.applications and options.newest:
        raise InputError("--newest", "is about several releases of one application: name them")
    if not options.applications:
        status: int = entry("fundamentum.cli", "served").check(options)
        return status
    wanted = applications(options)
    survey = server(options, wanted)
    named, offers = selectors(options, survey), Offers(survey)
    judgements = [check(needs, survey, selector, offers) for needs, selector in zip(wanted, named, strict=True)]
    if options.newest:
        return _newest(options, judgements, survey.server)
    form = entry("fundamentum.report.checks", options.format)
    detail = "quiet" if options.quiet else "verbose" if options.verbose else "usual"
    form.write(sys.stdout, judgements, survey, today=date.today(), following=_following(options), detail=detail)
    return 0 if all(judgement.satisfied for judgement in judgements) else 1


def _newest(options: argparse.Namespace, judgements: list[Judgement], server: str) -> int:
    """Which of several releases is the newest that runs here; 1 if none does."""
    if options.format not in ("text", "json"):
        raise InputError("--newest", "is told as text or as json")
    chosen = entry("fundamentum.check", "newest").newest(judgements)
    write = entry("fundamentum.report", "newest_text").write_newest
    write(sys.stdout, options.applications, judgements, chosen, server, as_document=options.format == "json")
    return 0 if chosen else 1


def _following(options: argparse.Namespace) -> str:
    """The command that plans what is missing; empty where that would repeat what may be a password."""
    words = ["fundamentum", "plan", *options.applications]
    for name in ("server", "runtime", "directory", "database"):
        words += [f"--{name}", value] if (value := getattr(options, name)) else []
    words += [word for file in options.accepted for word in ("--accepted", file)]
    command = shlex.join(words)
    return "" if without_credentials(command) != command else command
