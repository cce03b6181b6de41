"""Programs that have to be run at set times."""

from msgspec.structs import replace

from fundamentum.check import directories
from fundamentum.check.access import user_of
from fundamentum.model.findings import AGAIN, Finding, Target
from fundamentum.model.surrounding_needs import PATH, DirectoryNeed, TaskNeed
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform


def judge(need: TaskNeed, survey: Survey, target: Target) -> Finding:
    """The finding for one program."""
    base = Finding(need=need.key, level=need.level, verdict="unknown", wanted=need.text)
    if survey.asked is None or need.command not in survey.asked.tasks:
        return replace(base, found="not known", remedy=f"the survey did not look for it: {AGAIN}")
    found = [one for one in survey.tasks if one.command == need.command]
    often = next((one for one in found if one.every is not None and one.every <= need.every), None)
    one = often or next((one for one in found if one.every is None), found[0] if found else None)
    if one is None:
        blind = [remark for remark in survey.remarks if remark.about == "scheduled tasks"]
        if blind:
            return replace(base, found="not seen", remedy=f"survey again as root: {blind[0].why}")
        return replace(base, verdict="unmet", found="nothing runs it", remedy=_schedule_words(need, survey, target))
    words = f"every {_length(one.every)}" if one.every else "at times that are not read here"
    base = replace(base, found=f"{words}, as {one.user or 'an unknown user'}", origin=one.origin)
    if one.every is None:
        return replace(base, remedy=f"look at {one.origin}: whether it comes often enough is not known")
    remark = None
    if one.user == "root" and user_of(survey, target) not in (None, "root"):
        remark = "it runs as root: what it writes, the application cannot change"
    if often:
        return replace(base, verdict="met", remark=remark)
    return replace(base, verdict="unmet", remedy=f"let it run {need.text}: change {one.origin}", remark=remark)


def _schedule_words(need: TaskNeed, survey: Survey, target: Target) -> str:
    line = cron_line(need, survey, target)
    if line:
        return f"let cron run it: {line}"
    return f"let cron run it {need.text}, with the PHP of {target.runtime.label}"


def cron_line(need: TaskNeed, survey: Survey, target: Target) -> str | None:
    """The line for cron that runs it often enough; None where it is not known where the program stands."""
    directory = DirectoryNeed(need.command, need.level)
    user = user_of(survey, target)
    place = directories.placed(directory, survey, target)
    if place is None or user is None:
        return None
    path = place.real or place.path
    if not PATH.fullmatch(path):
        return None  # cron has its own meaning for some characters
    program = platform(survey.system.family).program(target.runtime.branch)
    return f"{crontab(need.every)} {user} {program} {path}"


def crontab(every: int) -> str:
    """The five fields of a line that comes at least that often: the largest even division that is no longer."""
    minutes = every // 60
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
