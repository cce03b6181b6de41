"""The server that the command line names, and which of its sites is meant."""

import argparse
from collections.abc import Sequence
from pathlib import Path

from fundamentum.check.judged_runtime import site_in, sites_in
from fundamentum.entries import entry
from fundamentum.errors import InputError
from fundamentum.kinds import asked_by
from fundamentum.model.needs import Needs
from fundamentum.model.survey import Survey
from fundamentum.survey.server_reference import look


def selectors(options: argparse.Namespace, survey: Survey) -> list[str | None]:
    """What is to be judged for each application: as the options name it, or the site that stands in its directory."""
    if options.directory is None and options.runtime is None:
        return [_site_of(word, options.server, survey) for word in options.applications]
    if options.directory is None:
        return [options.runtime] * len(options.applications)
    if options.runtime is not None:
        raise InputError("--directory", "names a site, and so does --runtime: give one of them")
    return [site_in(survey, options.directory)] * len(options.applications)


def _site_of(word: str, reference: str | None, survey: Survey) -> str | None:
    """The site in an application's directory, where that lies on the server that is read as files; else None."""
    root = Path(reference or "/")
    if not root.is_dir() or not Path(word).is_dir():
        return None
    try:
        inside = "/" + str(Path(word).resolve(strict=True).relative_to(root.resolve(strict=True)))
    except (OSError, ValueError):
        return None
    return site_in(survey, inside) if inside != "/." and sites_in(survey, inside) else None


def server(
    options: argparse.Namespace,
    applications: Sequence[Needs] = (),
    commands: Sequence[str] = (),
    packages: Sequence[str] = (),
) -> Survey:
    """The survey of the server that the options name, with what these applications ask about in particular.

    ``commands`` and ``packages`` are looked for beside, if they can be the names of any; and so is what applications
    ask about in the directory that is named, where none of them may stand yet.
    """
    asked = asked_by(applications, commands, getattr(options, "directory", None), packages)
    survey = look(options.server, sudo=options.sudo, ask=options.ask, asked=asked)
    if getattr(options, "database", None):
        survey = entry("fundamentum.survey", "database_greeting").with_database(survey, options.database)
    return survey
