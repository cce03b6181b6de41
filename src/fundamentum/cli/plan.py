"""``fundamentum plan``."""

import argparse
import io
import sys
from collections.abc import Sequence
from datetime import date

from msgspec.structs import replace

from fundamentum.check.judged_runtime import site_in, site_names
from fundamentum.cli.applications import applications
from fundamentum.cli.arguments import PLAN_FILE
from fundamentum.cli.output import write_below, write_whole
from fundamentum.cli.servers import selectors, server
from fundamentum.entries import entry
from fundamentum.errors import InputError
from fundamentum.model.needs import Needs
from fundamentum.model.safe_text import is_path
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
        return _of_served(options)
    wanted = applications(options)
    if options.web_server and not options.site:
        raise InputError("--web-server", "is for a new site: give its name with --site")
    if options.site:
        if options.runtime and options.runtime[:1].isalpha():
            raise InputError("--site", "names a site, and so does --runtime: give one of them")
        wanted = [entry("fundamentum.plan", "new_site").with_web(needs) for needs in wanted]
    if options.after_installation:
        wanted = [replace(needs, after_installation=True) for needs in wanted]
    survey = server(options, wanted)
    added: list[str] = []
    for word in options.index:
        survey, repository = entry("fundamentum.survey", "added_index").with_index(survey, word)
        added += repository
    site = _site(options, wanted, survey)
    sites = [options.runtime] if site else selectors(options, survey)
    recommended = not options.required_only
    planner = entry("fundamentum.plan", "planner")
    options_of_plan = {"recommended": recommended, "added": added, "site": site, "password_file": _password(options)}
    return planner.plan(wanted, survey, sites, today=date.today(), **options_of_plan), survey


def _of_served(options: argparse.Namespace) -> tuple[Plan, Survey]:
    """For all that the server serves, each application for its own site."""
    if options.site or options.web_server:
        raise InputError("--site", "is for one application: name that APP")
    server_found = entry("fundamentum.cli", "served").on_server(options)
    if not server_found.applications:
        why = "; ".join(f"{other.site}: {other.why}" for other in server_found.others)
        raise InputError("plan", f"no site here serves an application ({why or 'none is handed to PHP'}): name an APP")
    wanted = [application.needs for application in server_found.applications]
    sites = [application.served.site for application in server_found.applications]
    planner = entry("fundamentum.plan", "planner")
    plan: Plan = planner.plan(
        wanted, server_found.survey, sites, today=date.today(), recommended=not options.required_only
    )
    return plan, server_found.survey


def _password(options: argparse.Namespace) -> str:
    """The file on the server with the password for a database's user; empty if none is named."""
    path = options.database_password_file
    if path is not None and not (path.startswith("/") and is_path(path)):
        raise InputError("--database-password-file", "is the whole path of a file on the server")
    return path or ""


def _site(options: argparse.Namespace, wanted: Sequence[Needs], survey: Survey) -> object:
    """The site that is to be set up; None if none is, and one that is there is named as what serves them."""
    if not options.site:
        return None
    if options.site in site_names(survey):
        if options.directory is not None and site_in(survey, options.directory) != options.site:
            raise InputError("--directory", f"is not where {options.site} stands")
        options.runtime, options.directory = options.site, None
        return None
    if len(wanted) != 1:
        raise InputError("--site", f"{options.site} is no site here: a new one is planned for one APP")
    if options.directory is None:
        what = "is no site here; for a new one, give --directory with the whole path where the application stands"
        raise InputError("--site", f"{options.site} {what}")
    new_site = entry("fundamentum.plan", "new_site")
    offers = entry("fundamentum.platforms", "offers").Offers(survey)
    return new_site.wanted(survey, wanted[0], options.site, options.directory, options.web_server, offers)


def _read(options: argparse.Namespace) -> Plan:
    """A plan that was written as JSON."""
    named_here = (options.server, options.runtime, options.directory, options.site)
    given = [*options.applications, *options.index, *filter(None, named_here)]
    if given or options.required_only:
        raise InputError("--from", "reads a plan that is made already: what to plan for, and where, stands in it")
    plan: Plan = entry("fundamentum.report", "plan_document").load_plan(named(options.plan_file, "a plan"))
    return plan
