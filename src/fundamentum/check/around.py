"""The needs that go beyond PHP's own extensions and settings, each to the module that judges it."""

from fundamentum.check import chain, commands, databases, directories, machine, tasks
from fundamentum.check.offers import Market
from fundamentum.model.findings import Finding, Target
from fundamentum.model.needs import Needs
from fundamentum.model.surrounding_needs import (
    AroundNeed,
    CommandNeed,
    DatabaseNeed,
    DirectoryNeed,
    HostNeed,
    LimitNeed,
    TaskNeed,
)
from fundamentum.model.survey import Survey


def judge(need: AroundNeed, needs: Needs, survey: Survey, target: Target, market: Market) -> Finding:
    """The finding for one need that goes beyond PHP's own extensions and settings."""
    match need:
        case LimitNeed():
            return chain.judge(need, survey, target, market)
        case DatabaseNeed():
            return databases.judge(need, needs, survey, target, market)
        case CommandNeed():
            return commands.judge(need, survey, target, market)
        case DirectoryNeed():
            return directories.judge(need, survey, target)
        case HostNeed():
            return machine.judge(need, needs, survey, target)
        case TaskNeed():
            return tasks.judge(need, survey, target)
