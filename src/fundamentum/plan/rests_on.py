"""The files and users that a plan rests on: what decided the findings it was made from, as it was at the survey."""

import itertools
import posixpath
from collections.abc import Collection, Iterable, Iterator

from fundamentum.changes.file_operations import WriteFile
from fundamentum.changes.primitives import Own
from fundamentum.changes.steps import Step
from fundamentum.effective.file_access import account_named, user_of
from fundamentum.effective.judged_sites import sites_of
from fundamentum.model.file_mark import HOST_NAME, is_mark
from fundamentum.model.findings import Judgement
from fundamentum.model.safe_text import is_path
from fundamentum.model.survey import Survey


def rests_on(judgements: Collection[Judgement], survey: Survey, steps: Collection[Step] = ()) -> dict[str, str]:
    """Path → mark, as :attr:`~fundamentum.model.survey.Survey.marks` has it, for all that decides what was judged.

    So is, for files that the steps write into directories among it, whether they were there; for directories that they
    change, to whom these belonged, and with which modes; for the users whose rights count, name → number and groups.
    """
    paths: dict[str, None] = {}
    for judgement in judgements:
        for judged in filter(None, (judgement, judgement.command_line)):
            runtime = (judged.target.base or judged.target.runtime).label
            files = [listed.files for listed in survey.runtimes if listed.label in (runtime, judged.target.beside)]
            for site in sites_of(survey, judged.target) if files else ():
                files += [survey.read.get(name, ()) for server in site.way for name in (server.server, server.name)]
            if any(finding.need.kind == "database-setting" for finding in judged.findings):
                files += [options.files for options in survey.options]
            paths |= dict.fromkeys(itertools.chain(*files))
    marks = {path: mark for path, mark in survey.marks.items() if is_path(path) and is_mark(mark)}
    decisive = [HOST_NAME, *sorted(paths)] if marks.keys() & paths.keys() else []
    rested = {path: marks[path] for path in decisive if path in marks}
    for operation in (step.operation for step in steps):
        if isinstance(operation, WriteFile) and operation.path not in marks:
            rested |= {operation.path: "absent"} if posixpath.dirname(operation.path) in rested else {}
        if isinstance(operation, Own):
            places = (place for place in operation.before if place.kind == "directory")
            rested |= {p.real or p.path: f"place:{p.user}:{p.group}:{p.mode:o}" for p in places}
    rested = {path: mark for path, mark in rested.items() if is_path(path) and is_mark(mark)}
    return rested | (dict(_accounts(judgements, survey, steps)) if HOST_NAME in rested else {})


def _accounts(judgements: Iterable[Judgement], survey: Survey, steps: Iterable[Step]) -> Iterator[tuple[str, str]]:
    """The mark of every user whose rights on some directory were judged, or are changed."""
    names = {step.operation.user for step in steps if isinstance(step.operation, Own)}
    for judgement in judgements:
        if any(finding.need.kind == "directory" for finding in judgement.findings):
            names.add(user_of(survey, judgement.target) or "")
    for account in filter(None, (account_named(survey, name) for name in sorted(names))):
        if account.groups:
            yield account.name, f"account:{account.user}:{','.join(map(str, sorted(set(account.groups))))}"
