"""Programs that have to be run at set times: ``[tasks.required]`` and ``[tasks.recommended]``."""

import itertools
import posixpath
import re
from collections.abc import Iterator, Mapping
from typing import Any, Final

from msgspec.structs import replace

from fundamentum.catalog.cron import interval
from fundamentum.changes.base import Change
from fundamentum.changes.packages import Install
from fundamentum.changes.task import ScheduleTask
from fundamentum.effective.file_access import user_of
from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.directories.need import placed
from fundamentum.kinds.table_reader import PATH, Named, Reader, did_you_mean, seconds
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.findings import AGAIN, Finding, Target
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, NotUnderstood, Value
from fundamentum.model.surrounding_facts import Scheduled
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform

CRON: Final = ("cron", "cronie")
"""Packages that run programs at set times."""
_NAMED_TIMES: Final = {"hourly": 3600, "daily": 86400, "nightly": 86400, "weekly": 7 * 86400, "monthly": 31 * 86400}
_FILE_NAME: Final = lazy_regex(r"[^A-Za-z0-9_-]")
"""What cron ignores a file for, if its name has it."""


class TasksTable(Named):
    """Programs to be run at set times: a path below the application's directory, and "every 15m", "daily", or the five
    fields that cron has."""


class TaskNeed(Value, frozen=True):
    """One program that has to be run at set times."""

    command: str
    """The part of its command line by which it is known: a path below the application's directory, say."""
    every: int
    """Seconds between two runs, at most."""
    text: str
    level: Level
    times: str = ""
    """The five fields for cron, where it is written so."""

    @property
    def key(self) -> NeedId:
        return NeedId(f"task:{self.command}")


def task(command: str, text: str, level: Level) -> TaskNeed:
    """One entry of a table of tasks: the program, and how often it has to run."""
    if not PATH.fullmatch(command) or ".." in command.split("/"):
        raise NotUnderstood(f"'{command}' is no path of a program; letters, digits and . _ @ + - / are possible")
    words = text.strip()
    match = re.fullmatch(r"every\s+(.+)", words)
    if len(words.split()) == 5:
        times = " ".join(words.split())
        every = interval(times.split())
        if every is None:
            raise NotUnderstood(f"'{words}' are no five fields of cron; write for example \"*/10 * * * *\"")
        return TaskNeed(command, every, times, level, times)
    if words.lower() in _NAMED_TIMES:
        return TaskNeed(command, _NAMED_TIMES[words.lower()], words.lower(), level)
    if not match:
        hint = did_you_mean(words, _NAMED_TIMES) or '; write for example "every 15m", "daily" or "*/10 * * * *"'
        raise NotUnderstood(f"'{text}' is not understood{hint}")
    every = seconds(re.sub(r"\s*(minute|hour|day|min|second)s?$", lambda unit: unit[1][0], match[1]))
    if every < 60:
        raise NotUnderstood("no scheduler here runs anything more often than every minute")
    return TaskNeed(command, every, words, level)


class Tasks(Kind[TaskNeed]):
    """Programs that cron, or a timer, runs often enough."""

    prefixes = ("task",)
    beyond_php = True
    order = 90
    tables = {"tasks": TasksTable}

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[TaskNeed]:
        yield from reader.named("tasks", tables["tasks"], task)

    def questions(self, need: TaskNeed) -> Iterator[tuple[Question, str]]:
        yield "directories", need.command
        yield "tasks", need.command

    def judge(self, need: TaskNeed, context: Context) -> Finding:
        return _judged(need, context)


def _judged(need: TaskNeed, context: Context) -> Finding:
    survey, target = context.survey, context.target
    base = Finding(need=need.key, level=need.level, verdict="unknown", wanted=need.text)
    place = placed(need.command, survey, target)
    if place and place.kind == "absent":
        remedy = "see whether the application is there as a whole, or has it elsewhere now"
        return replace(base, verdict="unmet", found=f"{place.path} is not there", remedy=remedy)
    if survey.asked is None or need.command not in survey.asked.tasks:
        return replace(base, found="not known", remedy=f"the survey did not look for it: {AGAIN}")
    here = {place.real or place.path} if place else set()
    # A line that runs a file of another application has nothing to do with this one.
    tasks = [
        scheduled
        for scheduled in survey.tasks
        if scheduled.command == need.command and (not here or scheduled.path in ("", *here))
    ]
    tasks.sort(key=lambda task: _gone(task, survey))
    often = next(
        (scheduled for scheduled in tasks if scheduled.every is not None and scheduled.every <= need.every), None
    )
    job = often or next((job for job in tasks if job.every is None), tasks[0] if tasks else None)
    if job is None:
        blind = [remark for remark in survey.remarks if remark.about == "scheduled tasks"]
        if blind:
            return replace(base, found="not seen", remedy=f"survey again as root: {blind[0].why}")
        return replace(
            base,
            verdict="unmet",
            found="nothing runs it",
            remedy=_schedule_words(need, context),
            demands=tuple(_demands(need, context)),
        )
    return _as_it_runs(base, job, need, context)


def _as_it_runs(base: Finding, job: Scheduled, need: TaskNeed, context: Context) -> Finding:
    """The finding about a line or timer that names the program."""
    survey, target = context.survey, context.target
    words = f"every {_length(job.every)}" if job.every else "at times that are not read here"
    base = replace(base, found=f"{words}, as {job.user or 'an unknown user'}", origin=job.origin)
    if job.every is None:
        return replace(base, remedy=f"look at {job.origin}: whether it comes often enough is not known")
    if _gone(job, survey):
        of_its_own = job.program.endswith(target.runtime.branch)
        remedy = f"let it run with the PHP of {target.runtime.label}: change {job.origin}"
        remedy = f"install PHP {target.runtime.branch} for the command line" if of_its_own else remedy
        return replace(base, verdict="unmet", found=f"by {job.program}, which is not there", remedy=remedy)
    remark = None
    if job.user == "root" and user_of(survey, target) not in (None, "root"):
        remark = "it runs as root: what it writes, the application cannot change"
    if job.every <= need.every:
        return replace(base, verdict="met", remark=remark)
    return replace(base, verdict="unmet", remedy=f"let it run {need.text}: change {job.origin}", remark=remark)


def _gone(task: Scheduled, survey: Survey) -> bool:
    """Whether a line names a PHP by its branch, in the system's own place, and that one is not there."""
    folder, _, name = task.program.rpartition("/")
    match = re.fullmatch(r"php-?(\d+\.\d+)", name) if folder in ("", "/usr/bin") else None
    return match is not None and not any(
        runtime.sapi == "cli" and runtime.branch == match[1] for runtime in survey.runtimes
    )


def _demands(need: TaskNeed, context: Context) -> Iterator[Change]:
    """A line for cron, and cron itself."""
    line, offers = cron_line(need, context.survey, context.target), context.offers
    if line is None or not offers.platform.carried_out or not context.target.present:
        return
    installed = {package.name for package in context.survey.installed or ()}
    offered = next((name for name in CRON if offers.package(name)), None)
    if not installed.intersection(CRON) and offered:
        yield Install(offered, of_php=False)
    name = posixpath.join("/etc/cron.d", _FILE_NAME.sub("-", context.needs.name))
    # A file in which another task of the application stands already is left as it is.
    there = {task.origin.file for task in context.survey.tasks}
    file = next(
        path
        for path in itertools.chain([name], (f"{name}-{number}" for number in itertools.count(2)))
        if path not in there
    )
    yield ScheduleTask(need.command, line, file)


def _schedule_words(need: TaskNeed, context: Context) -> str:
    target = context.target
    line = cron_line(need, context.survey, target)
    if line:
        return f"let cron run it: {line}"
    return f"let cron run it {need.text}, with the PHP of {target.runtime.label}"


def cron_line(need: TaskNeed, survey: Survey, target: Target) -> str | None:
    """The line for cron that runs it often enough; None where it is not known where the program stands."""
    user = user_of(survey, target)
    place = placed(need.command, survey, target)
    if place is None or user is None:
        return None
    path = place.real or place.path
    if not PATH.fullmatch(path):
        return None  # cron has its own meaning for some characters
    program = platform(survey.system.family).program(target.runtime.branch)
    return f"{need.times or crontab(need.every)} {user} {program} {path}"


def crontab(every: int) -> str:
    """The five fields of a line that comes at least that often: the largest even division that is no longer."""
    minutes = every // 60
    if minutes >= 31 * 1440:
        return "20 3 1 * *"
    if minutes >= 7 * 1440:
        return "20 3 * * 0"
    if minutes >= 1440:
        return "20 3 * * *"
    if minutes >= 60:
        hours = max(n for n in (1, 2, 3, 4, 6, 8, 12) if n <= minutes // 60)
        return f"20 */{hours} * * *" if hours > 1 else "20 * * * *"
    step = max(n for n in (1, 2, 3, 4, 5, 6, 10, 12, 15, 20, 30) if n <= minutes)
    return f"*/{step} * * * *" if step > 1 else "* * * * *"


def _length(every: int | None) -> str:
    for letter, size in (("d", 86400), ("h", 3600), ("m", 60)):
        if every and every % size == 0:
            return f"{every // size}{letter}"
    return f"{every}s"


KIND = Tasks()
