"""A plan as a POSIX shell script that is safe to read and safe to run twice."""

from collections.abc import Callable, Iterator
from typing import Final

from fundamentum.check import directories
from fundamentum.errors import FundamentumError
from fundamentum.model.actions import Change, about_of, key_of
from fundamentum.model.findings import Arrangement
from fundamentum.model.plan import Plan
from fundamentum.platforms import families, platform
from fundamentum.report.escape import clean, shell_lines, shell_word, shell_words
from fundamentum.report.shell_library import functions_for, introduction
from fundamentum.report.steps import Step, steps


def as_script(plan: Plan) -> str:
    """The script: the plan first, as it is told, behind it what its steps are written in.

    Every word that comes from a server or an application is quoted.
    """
    of = platform(plan.family)
    if not of.carried_out and not plan.empty:
        raise FundamentumError(f"{plan.server}: a script can be written for the {families()} only")
    names = ", ".join(one.needs.name for one in plan.after)
    runtimes = ", ".join(dict.fromkeys(one.target.runtime.label for one in plan.after))
    body = [line for number, step in enumerate(steps(plan), 1) for line in _step(plan, number, step)]
    body += _left(plan)
    body += ["finish"] if not plan.empty else ['say "nothing to do"']
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
            "# What the plan is written in; it is carried out by the last line.",
            *library,
            "",
            "plan",
            "",
        ]
    )


def _step(plan: Plan, number: int, step: Step) -> list[str]:
    """One step: its title and reasons as comments, and what does it."""
    along = []
    if step.kind == "install":
        along += [f"with them come, as dependencies: {', '.join(plan.along)}"] if plan.along else []
        along += [f"they take away: {', '.join(plan.removes)}"] if plan.removes else []
    comments = [line for words in (*step.why, *along) for line in _comment(f"  {words}")]
    return [*_comment(f"{number}. {step.title}"), *comments, *_CALLS.get(step.kind, _nothing)(plan, step), ""]


def _nothing(plan: Plan, step: Step) -> list[str]:
    return []


def _source(plan: Plan, step: Step) -> list[str]:
    return [shell_words(["need_source", clean(step.subject), *_from(plan, step.subject)])]


def _stream(plan: Plan, step: Step) -> list[str]:
    return [shell_words(["switch_stream", *step.subject.split(":", 1)])]


def _install(plan: Plan, step: Step) -> list[str]:
    found = []
    for function, again in (("install_packages", False), ("install_again", True)):
        if names := [one.package for one in plan.installs if one.again is again]:
            found.append(f"{function} {shell_words(names)}")
    return found


def _enable(plan: Plan, step: Step) -> list[str]:
    return [shell_words(["switch_on", one.branch, one.sapi, one.switch]) for one in plan.enables]


def _modules(plan: Plan, step: Step) -> list[str]:
    (switch,) = (one for one in plan.switched if key_of(one) == step.subject)
    lists = (switch.without, switch.modules, switch.snippets)
    found = [shell_words(["switch_web_server", *(" ".join(names) for names in lists)])] if any(lists) else []
    return found + [shell_words(["link_site", one.file, one.link]) for one in switch.sites]


def _file(plan: Plan, step: Step) -> list[str]:
    (content,) = {one.content for one in plan.files if one.path == step.subject}
    return [*_changes(plan, step.subject), *_with_lines("write_file", step.subject, content)]


def _edit(plan: Plan, step: Step) -> list[str]:
    (diff,) = {one.diff for one in plan.edits if one.path == step.subject}
    return [*_changes(plan, step.subject), *_with_lines("change_file", step.subject, diff)]


def _directory(plan: Plan, step: Step) -> list[str]:
    (change,) = {one.arrangement for one in plan.arranged if one.arrangement.path == step.subject}
    return [shell_words(words) for words in _arranged(change)]


def _service(plan: Plan, step: Step) -> list[str]:
    (restart,) = (one for one in plan.restarts if one.service == step.subject)
    check = platform(plan.family).service_check(restart.service)
    return [shell_words([f"{restart.verb}_service", restart.service, *check])]


_CALLS: Final[dict[str, Callable[[Plan, Step], list[str]]]] = {
    "source": _source,
    "switch": _stream,
    "install": _install,
    "enable": _enable,
    "modules": _modules,
    "file": _file,
    "edit": _edit,
    "directory": _directory,
    "restart": _service,
}


def _left(plan: Plan) -> Iterator[str]:
    for need in plan.unresolved:
        yield from _comment(f"Not resolved: {need.application} {need.need} ({need.level}): {need.why}")


def _changes(plan: Plan, file: str) -> list[str]:
    """What is changed in one file, as comments."""
    found = [one for one in plan.about(file) if isinstance(one, Change)]
    return [line for one in found for line in _comment(f"  {about_of(one)}: now {one.before or 'not set'}")]


def _arranged(change: Arrangement) -> list[list[str]]:
    """A directory's change in the words of the script's own functions."""
    out: list[list[str]] = []
    if change.make:
        mode = f"{change.mode or directories.PRIVATE:o}"
        out.append(["make_directory", change.path, mode, change.owner or "root", change.group or ""])
    else:
        if change.owner or change.group:
            out.append(["give", change.path, change.owner or "", change.group or ""])
        out += [["set_mode", change.path, f"{change.mode:o}"]] if change.mode is not None else []
    out += [["set_mode", path, f"{mode:o}"] for path, mode in change.opened]
    out += [["grant", path, change.user, letters] for path, letters in change.grants]
    return out + ([["set_label", change.path, change.label]] if change.label else [])


def _comment(text: str) -> list[str]:
    return [f"# {clean(text)}"]


def _with_lines(function: str, path: str, content: str) -> list[str]:
    """A call with a path and the lines of a content, one below the other."""
    words = [f"{function} {shell_word(path)}", *(f"    {word}" for word in shell_lines(content))]
    return [*(word + " \\" for word in words[:-1]), words[-1]]


def _from(plan: Plan, source: str) -> list[str]:
    """The packages that the plan takes from a source, each with its version: those that it names, else all of them."""
    taken = [name for name, of in plan.sources.items() if of == source]
    named = [name for name in taken if any(one.package == name for one in plan.installs)]
    return [word for name in named or taken for word in (name, plan.versions.get(name, ""))]
