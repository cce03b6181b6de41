"""A plan as a POSIX shell script that is safe to read and safe to run twice."""

from collections.abc import Iterable, Iterator, Sequence
from typing import IO, Final
from urllib.parse import quote

from fundamentum.changes.file_operations import EditFile, WriteFile
from fundamentum.changes.primitives import (
    DECIDED,
    ConfigureSource,
    InstallPackages,
    Own,
    Primitive,
    SwitchExtension,
    SwitchStream,
    TakeAway,
)
from fundamentum.changes.server_operations import MakeDatabase, SwitchInServer, TakeUp
from fundamentum.changes.steps import Step
from fundamentum.errors import FundamentumError
from fundamentum.kinds import reason_in_words
from fundamentum.model.promises import Promise, Proof
from fundamentum.model.survey import Survey
from fundamentum.plan.made_plan import Plan
from fundamentum.platforms import families, platform
from fundamentum.platforms.base import Platform
from fundamentum.report.escape import clean, shell_lines, shell_word, shell_words
from fundamentum.report.powershell_script import as_powershell
from fundamentum.report.shell_library import functions_for, introduction
from fundamentum.report.written_text import write_out
from fundamentum.webservers import names as webserver_names
from fundamentum.webservers import webserver
from fundamentum.webservers.base import SwitchCommand

LOOKS: Final = 2
"""The place in the order of operations at which nothing is left to decide, and nothing is changed yet."""
_ACCESS: Final = {"run": "-x", "write": "-w", "read": "-r"}
"""What PHP's user may do, as ``test`` asks for it."""


def write(stream: IO[str], plan: Plan, survey: Survey | None, *, full: bool = False) -> None:
    """The script, to the stream."""
    write_out(as_script(plan), stream)


def as_script(plan: Plan) -> str:
    """The script: the plan first, as it is told, behind it what its steps are written in.

    Every word that comes from a server or an application is quoted.
    """
    of = platform(plan.family)
    if of.script_language == "powershell":
        return as_powershell(plan)
    if not of.carried_out and not plan.empty:
        raise FundamentumError(f"{plan.server}: a script can be written for the {families(scripted=True)} only")
    names = ", ".join(application.name for application in plan.applications)
    runtimes = ", ".join(dict.fromkeys(application.runtime for application in plan.applications))
    body = ["# Before anything else: is the server as it was when this was planned?", *_unchanged(plan), ""]
    body = body if plan.rests_on else []
    numbered = list(enumerate(plan.steps, 1))
    first = [pair for pair in numbered if pair[1].operation.KIND in DECIDED and pair[1].operation.ORDER < LOOKS]
    body += [line for number, step in first for line in _step(plan, number, step)]
    looked = list(_looks(plan))
    body += ["# Before the first change: would the rest go as planned?", *looked, ""] if looked else []
    body += [line for number, step in numbered[len(first) :] for line in _step(plan, number, step)]
    body += _left(plan)
    asked = proof(plan)
    body += ["# At the end, PHP itself is asked for what was promised.", *asked] if asked else []
    body += ["finish"] if not plan.empty else ['say "nothing to do"', *(["finish"] if plan.proofs else [])]
    library = functions_for(plan.family, body)
    if any('"$cr"' in line for line in body):
        library.append("cr=$(printf '\\r')")
    return "\n".join(
        [
            "#!/bin/sh",
            *_comment(f"What {plan.server} lacks for {names} on {runtimes}."),
            *introduction(),
            "set -eu",
            "",
            "plan() {",
            *(f"    {line}" if line else "" for line in body),
            "}",
            "",
            *_rests_on(plan),
            "# What the plan is written in; it is carried out by the last line.",
            f"plan={shell_word(plan.identity)}",
            *library,
            "",
            "plan",
            "",
        ]
    )


def part(plan: Plan, body: Sequence[str], *, act: bool) -> str:
    """A script that does nothing but this, for others who carry a plan out; its arguments are those of ``body``."""
    lines = [f"act={'yes' if act else 'no'}", *body]
    library = functions_for(plan.family, lines, besides=("options", "once"))
    script = ["set -eu", "plan() {", *lines, "}", *_rests_on(plan), f"plan={shell_word(plan.identity)}", *library]
    return "\n".join([*script, 'plan "$@"', ""])


def looks(plan: Plan) -> list[str]:
    """What is looked at before the first change."""
    return [*_unchanged(plan), *_looks(plan)]


def proof(plan: Plan) -> list[str]:
    """What is asked of the server afterwards."""
    return [line for proof in plan.proofs for line in _asked(proof)]


def _unchanged(plan: Plan) -> list[str]:
    return ["as_planned"] if plan.rests_on else []


def _looks(plan: Plan) -> Iterator[str]:
    """What is looked at once everything is decided."""
    of = platform(plan.family)
    for step in plan.steps:
        if isinstance(step.operation, InstallPackages) and step.operation.names:
            sets = (step.operation.names, plan.along, plan.removes)
            yield shell_words(["packages_as_planned", *(" ".join(names) for names in sets)])
    mending = any(isinstance(step.operation, InstallPackages | SwitchInServer | SwitchExtension) for step in plan.steps)
    for step in plan.steps:
        if isinstance(step.operation, TakeUp) and step.operation.reads:
            _, *command = of.service_check(step.operation.service)
            yield shell_words(["valid_now", step.operation.service, "yes" if mending else "no", *command])


def _rests_on(plan: Plan) -> Iterator[str]:
    """The files that it was made from, each with what it was, as data."""
    yield from ("# The files and users it was made from, as they were then.", "rests_on() {", "    cat <<'END'")
    yield from (f"{mark} {path}" for path, mark in plan.rests_on.items())
    yield from ("END", "}", "")


def _step(plan: Plan, number: int, step: Step) -> list[str]:
    """One step: its title and reasons as comments, and what does it."""
    operation, along = step.operation, []
    if isinstance(operation, InstallPackages):
        along += [f"with them come, as dependencies: {', '.join(plan.along)}"] if plan.along else []
        for upgrade in plan.upgrades:
            lost = "" if upgrade.back else ", and cannot be taken back: that version is no longer to be had"
            along.append(f"{upgrade.package} is upgraded from {upgrade.before} to {upgrade.after}{lost}")
    whys = [
        f"{change.about}{f' {change.effect}' if change.effect else ''}: {reason_in_words(reason)}"
        for change, reason in plan.why_all(step.changes)
    ]
    whys += plan.told_at(step)
    comments = [line for words in (*whys, *along) for line in _comment(f"  {words}")]
    return [*_comment(f"{number}. {operation.title}"), *comments, *in_shell(operation, platform(plan.family)), ""]


def in_shell(operation: Primitive, of: Platform) -> list[str]:
    """An operation in the words of the script's own functions."""
    match operation:
        case ConfigureSource(source, packages):
            return [shell_words(["need_source", clean(source), *(word for pair in packages for word in pair)])]
        case TakeAway(packages):
            return [shell_words(["let_go", *packages])]
        case SwitchStream(stream):
            return [shell_words(["need_stream", *stream.split(":", 1)])]
        case InstallPackages(names, again):
            fresh = [f"install_packages {shell_words(names)}"] if names else []
            return fresh + ([f"install_again {shell_words(again)}"] if again else [])
        case SwitchExtension(switches):
            return [shell_words(["switch_on", branch, sapi, switch]) for branch, sapi, switch, _ in switches]
        case SwitchInServer(parts):
            return [_switched(part) for part in parts]
        case WriteFile(path):
            return _with_lines("write_file", path, operation.content)
        case EditFile(path):
            return _with_lines("change_file", path, operation.diff)
        case Own():
            return [shell_words(words) for words in _owned(operation)]
        case MakeDatabase(name, product, character_set, file, given, application):
            words = ["make_database", product, name, character_set, file, "given" if given else "made", application]
            return [shell_words(words)]
        case TakeUp(service, verb):
            pidfile, *test = of.service_check(service)
            words = [f"{verb}_service", service, pidfile, _signal(service, of), *test]
            calls = [shell_words(words if operation.reads else ["run_service", service, pidfile])]
            return calls if of.services_enabled else [*calls, shell_words(["enable_service", service])]
    return []


def _signal(service: str, of: Platform) -> str:
    """The signal at which a service takes up its configuration.  Source: php-fpm(8), and the web servers' manuals."""
    named = (webserver(name).signal for name in webserver_names() if of.web_service(name) == service)
    return next(named, "USR2" if "fpm" in service else "")


def _switched(part: SwitchCommand) -> str:
    query = shell_words(part.query)
    words = (part.name, query if part.on else f"! {query}", shell_words(part.command), shell_words(part.back))
    return shell_words(["switch_part", *words])


def _left(plan: Plan) -> Iterator[str]:
    for need in plan.unresolved:
        yield from _comment(f"Not resolved: {need.application} {need.need} ({need.level}): {need.why}")


def _owned(change: Own) -> list[list[str]]:
    """A directory's change in the words of the script's own functions."""
    out: list[list[str]] = []
    if change.make:
        made = "make_file" if change.empty_file else "make_directory"
        out.append([made, change.path, f"{change.mode:o}", change.owner or "root", change.group or ""])
    else:
        if change.owner or change.group:
            out.append(["give", change.path, change.owner or "", change.group or ""])
        out += [["set_mode", change.path, f"{change.mode:o}"]] if change.mode is not None else []
    out += [["set_mode", path, f"{mode:o}"] for path, mode in change.opened]
    out += [["grant", path, change.user, letters] for path, letters in change.grants]
    return out + ([["set_label", change.path, change.label]] if change.label else [])


def _asked(proof: Proof) -> Iterator[str]:
    """What was promised, asked of PHP itself and of the system."""
    of_php = [_encoded(promise) for promise in proof.promises if promise.asks not in _ACCESS]
    if of_php:
        where = (proof.host, str(proof.port or ""), proof.listen, proof.root, proof.program)
        sent = (f"{name}={text}" for name, text in proof.sent)
        first = shell_words(["prove", proof.application, *where, *sent])
        yield " \\\n        ".join([first, *_filled(map(shell_word, of_php))])
    who = f"{proof.user}:{proof.group}" if proof.group else proof.user
    for promise in proof.promises:
        if promise.asks in _ACCESS and proof.user:
            words = ("prove_access", proof.application, promise.need, who, _ACCESS[promise.asks], promise.name)
            yield shell_words(words)


def _encoded(promise: Promise) -> str:
    """``NEED ASKS NAME=VALUE``, percent-encoded."""
    need, name, value = (quote(text, safe="/:.~|,+-_&") for text in (promise.need, promise.name, promise.value))
    return f"{need} {promise.asks} {name}={value}"


def _filled(words: Iterable[str]) -> Iterator[str]:
    """The words in lines that are not too long."""
    line = ""
    for word in words:
        if line and len(line) + len(word) > 100:
            yield line
            line = ""
        line = f"{line} {word}".strip()
    yield line


def _comment(text: str) -> list[str]:
    return [f"# {clean(text)}"]


def _with_lines(function: str, path: str, content: str) -> list[str]:
    """A call with a path and the lines of a content, one below the other."""
    words = [f"{function} {shell_word(path)}", *(f"    {word}" for word in shell_lines(content))]
    return [*(word + " \\" for word in words[:-1]), words[-1]]
