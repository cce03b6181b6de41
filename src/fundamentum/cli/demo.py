"""``fundamentum demo``."""

import argparse
import sys
from datetime import date
from pathlib import Path

from rich.rule import Rule
from rich.text import Text

import fundamentum.demo
from fundamentum.check.judge import check
from fundamentum.cli.applications import application
from fundamentum.derive.derive import derive
from fundamentum.plan.new_site import wanted as new_site
from fundamentum.plan.new_site import with_web
from fundamentum.plan.planner import plan
from fundamentum.platforms.offers import Offers
from fundamentum.report.checks.text import write_check
from fundamentum.report.derive_text import write_derived
from fundamentum.report.plans.text import write_plan
from fundamentum.report.terminal import console_for
from fundamentum.survey.server_reference import look

DATA = Path(fundamentum.demo.__file__).parent / "data"


def run(options: argparse.Namespace) -> int:
    """Check one application on a server that is ready and on one that is not, plan, derive, and plan for all."""
    console = console_for(sys.stdout)
    for scene in fundamentum.demo.SCENES:
        rule = Rule(Text(f"$ fundamentum {scene.command}", style="bold"), align="left", characters="-")
        console.print(rule, width=min(console.width, 110))
        console.print(Text(scene.story, style="dim"))
        console.print()
        if scene.verb == "derive":
            write_derived(console, derive(DATA / scene.applications[0]))
            console.print()
            continue
        wanted = [application(str(DATA / f"{name}.needs.toml")) for name in scene.applications]
        survey = look(str(DATA / f"{scene.server}.survey.json"))
        if scene.site:
            only = with_web(wanted[0])
            site = new_site(survey, only, scene.site, scene.directory, None, Offers(survey))
            write_plan(console, plan([only], survey, today=date.today(), site=site))
        elif scene.command.startswith("check"):
            judgements = [check(needs, survey) for needs in wanted]
            write_check(console, judgements, survey, today=date.today())
        else:
            write_plan(console, plan(wanted, survey, today=date.today()))
        console.print()
    console.print(
        Text(
            f"The needs files and surveys shown here are in {DATA}; try the commands on them, or on a server of yours.",
            style="dim",
        )
    )
    return 0
