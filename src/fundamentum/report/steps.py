"""A plan as steps in order, each with its commands and reasons."""

import shlex
from collections.abc import Iterator
from typing import Literal

import msgspec

from fundamentum.check import directories
from fundamentum.model.actions import SwitchOn, about_of, key_of
from fundamentum.model.plan import Plan
from fundamentum.platforms import platform
from fundamentum.webservers import webserver

Kind = Literal[
    "decide", "source", "switch", "install", "enable", "modules", "file", "edit", "directory", "web", "restart", "site"
]


class Step(msgspec.Struct):
    """One step: its commands in a shell's words, and the reason for each thing in it."""

    title: str
    commands: list[str]
    why: list[str]
    kind: Kind
    subject: str = ""
    """The file, service or source it is about."""


def why(plan: Plan, key: str, about: str) -> list[str]:
    """The reasons of one action, each in a line that begins with what it is about."""
    return [f"{about}: {reason}" for reason in plan.reasons.get(key, ())]


def steps(plan: Plan) -> list[Step]:
    """The plan in order: sources, packages, extensions, settings, services, and what is left to decide."""
    of = platform(plan.family)
    found = [
        Step(
            f"decide: add the package source {name}",
            [],
            [f"{name}: holds packages of this plan, and is not configured on {plan.server}"],
            "source",
            name,
        )
        for name in plan.repositories
    ]
    if plan.switch:
        consequence = f"what is installed of the other stream is replaced, for every site on {plan.server}"
        found.append(
            Step(
                f"decide: switch to the module stream {plan.switch}",
                [shlex.join(of.switch_stream(plan.switch))],
                [consequence],
                "switch",
                plan.switch,
            )
        )
    if plan.installs:
        reasons = [line for one in plan.installs for line in why(plan, key_of(one), one.package)]
        title = f"install {_count(len(plan.installs), 'package')}"
        found.append(Step(title, install_commands(plan), reasons, "install"))
    if plan.enables:
        commands = [shlex.join(of.switch_on(one.branch, one.sapi, one.switch)) for one in plan.enables]
        reasons = [line for one in plan.enables for line in why(plan, key_of(one), one.extension)]
        found.append(Step("switch on what is there already", commands, reasons, "enable"))
    for switch in plan.switched:
        reasons = why(plan, key_of(switch), about_of(switch))
        title = "let the web server hand PHP files to PHP"
        found.append(Step(title, _switching(switch), reasons, "modules", key_of(switch)))
    for file in plan.files:
        lines = shlex.join(file.content.splitlines())
        command = f"printf '%s\\n' {lines} > {shlex.quote(file.path)}"
        found.append(Step(f"write {file.path}", [command], _whys(plan, file.path), "file", file.path))
    for edit in plan.edits:
        found.append(Step(f"change {edit.path}", [], _whys(plan, edit.path), "edit", edit.path))
    found += _around(plan)
    for restart in plan.restarts:
        reasons = why(plan, key_of(restart), restart.service)
        if plan.installs or plan.enables or plan.files or plan.edits or plan.switched:
            reasons.append(f"{restart.service}: so that it runs with the changes above")
        command = shlex.join(of.service(restart.verb, restart.service))
        found.append(Step(f"{restart.verb} {restart.service}", [command], reasons, "restart", restart.service))
    for pool in plan.pools:
        line = f"hand the site of {pool.name} to unix:{pool.listen}, so that its own limits hold for it"
        found.append(Step(f"decide: let the web server use the pool {pool.name}", [], [line], "site", pool.name))
    return found


def _switching(switch: SwitchOn) -> list[str]:
    """The web server's own commands, one for all parts that are switched in the same way."""
    groups: dict[tuple[str, ...], list[str]] = {}
    for command in webserver(switch.server).switching(switch):
        tool = tuple(word for word in command.command[:-1] if word not in ("-q", "-f"))
        groups.setdefault(tool, []).append(command.name)
    return [shlex.join([*tool, *names]) for tool, names in groups.items()]


def _whys(plan: Plan, file: str) -> list[str]:
    """The reasons of everything that is done in one file."""
    return [line for one in plan.about(file) for line in why(plan, key_of(one), about_of(one))]


def _around(plan: Plan) -> Iterator[Step]:
    """Directories, and web servers that are set up by commands."""
    for one in plan.arranged:
        lines = [shlex.join(command) for command in directories.commands(one.arrangement)]
        path = one.arrangement.path
        title = f"make the directory {path}" if one.arrangement.make else f"give {one.arrangement.user} {path}"
        yield Step(title, lines, why(plan, key_of(one), path), "directory", path)
    for site in dict.fromkeys(one.site for one in plan.widened if one.spot is None):
        changes = [one for one in plan.widened if one.spot is None and one.site == site]
        reasons = [line for one in changes for line in why(plan, key_of(one), one.name)]
        of = webserver(changes[0].server)
        commands = [of.command(change) for change in changes]
        yield Step(f"let {of.title} allow more for {site}", commands, reasons, "web", site)


def install_commands(plan: Plan) -> list[str]:
    """The package manager's commands: what is new first, then what is put in place again."""
    found = []
    for again in (False, True):
        if names := [one.package for one in plan.installs if one.again is again]:
            found.append(shlex.join(platform(plan.family).install(names, again=again)))
    return found


def _count(number: int, what: str) -> str:
    return f"{number} {what}" if number == 1 else f"{number} {what}s"
