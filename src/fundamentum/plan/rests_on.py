"""The files that a plan rests on: what decided the findings it was made from, as it was at the survey."""

import itertools
import posixpath
from collections.abc import Iterable

from fundamentum.changes.file_operations import WriteFile
from fundamentum.changes.primitives import Own
from fundamentum.changes.steps import Step
from fundamentum.effective.judged_sites import sites_of
from fundamentum.model.file_mark import HOST_NAME, is_mark
from fundamentum.model.findings import Judgement
from fundamentum.model.safe_text import is_path
from fundamentum.model.survey import Survey


def rests_on(judgements: Iterable[Judgement], survey: Survey, steps: Iterable[Step] = ()) -> dict[str, str]:
    """Path → mark, as :attr:`~fundamentum.model.survey.Survey.marks` has it, for all that decides what was judged.

    So is, for files that the steps write into directories among it, whether they were there, and for directories that
    they change, to whom these belonged, and with which modes.
    """
    found: dict[str, None] = {}
    for judgement in judgements:
        for judged in filter(None, (judgement, judgement.command_line)):
            runtime = (judged.target.base or judged.target.runtime).label
            files = [one.files for one in survey.runtimes if one.label in (runtime, judged.target.beside)]
            for site in sites_of(survey, judged.target) if files else ():
                files += [survey.read.get(name, ()) for one in site.way for name in (one.server, one.name)]
            if any(finding.need.kind == "database-setting" for finding in judged.findings):
                files += [options.files for options in survey.options]
            found |= dict.fromkeys(itertools.chain(*files))
    marks = {path: mark for path, mark in survey.marks.items() if is_path(path) and is_mark(mark)}
    decisive = [HOST_NAME, *sorted(found)] if marks.keys() & found.keys() else []
    rested = {path: marks[path] for path in decisive if path in marks}
    for operation in (step.operation for step in steps):
        if isinstance(operation, WriteFile) and operation.path not in marks:
            rested |= {operation.path: "absent"} if posixpath.dirname(operation.path) in rested else {}
        if isinstance(operation, Own):
            places = (place for place in operation.before if place.kind == "directory")
            rested |= {p.real or p.path: f"place:{p.user}:{p.group}:{p.mode:o}" for p in places}
    return {path: mark for path, mark in rested.items() if is_path(path) and is_mark(mark)}
