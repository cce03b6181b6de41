"""A plan as a POSIX shell script that is safe to read and safe to run twice."""

from collections.abc import Iterator
from pathlib import Path
from typing import Final

from fundamentum import webservers
from fundamentum.check import directories
from fundamentum.errors import FundamentumError
from fundamentum.model.actions import Change, Reason, about_of, key_of
from fundamentum.model.findings import Arrangement
from fundamentum.model.plan import Plan
from fundamentum.platforms import families, platform, text_of
from fundamentum.report.escape import clean, shell_lines, shell_word, shell_words
from fundamentum.webservers import webserver

_HEAD: Final = Path(__file__).with_name("script_head.sh")


def as_script(plan: Plan) -> str:
    """The script.  Every word that comes from a server or an application is quoted."""
    of = platform(plan.family)
    if not of.carried_out and not plan.empty:
        raise FundamentumError(f"{plan.server}: a script can be written for the {families()} only")
    names = ", ".join(one.needs.name for one in plan.after)
    runtimes = ", ".join(dict.fromkeys(one.target.runtime.label for one in plan.after))
    read = (*of.read_by_php, *(path for name in webservers.names() for path in webserver(name).read_when_started))
    head = _HEAD.read_text("utf-8").replace("%READ_BY_SERVICES%", shell_words(read)) + text_of(plan.family, "script.sh")
    parts = (_sources, _installs, _switches, _contents, _directories, _services, _left)
    body = [line for part in parts for line in part(plan)]
    if any('"$cr"' in line for line in body):
        head += "\ncr=$(printf '\\r')\n"
    out = ["#!/bin/sh", *_comment(f"What {plan.server} lacks for {names} on {runtimes}."), head, *body]
    out += ["finish"] if not plan.empty else ['say "nothing to do"']
    return "\n".join(out).rstrip("\n") + "\n"


def _sources(plan: Plan) -> Iterator[str]:
    for source in plan.repositories:
        yield from _comment(f"Package source to be configured first: {source}")
        yield from (shell_words(["need_source", clean(source), *_from(plan, source)]), "")
    if plan.switch:
        yield from _comment("The module stream; what is installed of another one is replaced")
        yield from (shell_words(["switch_stream", *plan.switch.split(":", 1)]), "")


def _installs(plan: Plan) -> Iterator[str]:
    fresh = [one for one in plan.installs if not one.again]
    again = [one for one in plan.installs if one.again]
    for title, function, group in (
        ("Packages", "install_packages", fresh),
        ("Packages whose files are not what they should be", "install_again", again),
    ):
        if not group:
            continue
        yield from _comment(title)
        for one in group:
            yield from _reasons(one.package, plan.reasons.get(key_of(one), ()))
        if plan.along and group is fresh:
            yield from _comment(f"With them come, as dependencies: {', '.join(plan.along)}")
        if plan.removes and group is fresh:
            yield from _comment(f"They take away: {', '.join(plan.removes)}")
        yield from (f"{function} {shell_words(one.package for one in group)}", "")


def _switches(plan: Plan) -> Iterator[str]:
    if plan.enables:
        yield from _comment("Extensions that are there, but not switched on")
        for enable in plan.enables:
            yield from _reasons(enable.extension, plan.reasons.get(key_of(enable), ()))
            yield shell_words(["switch_on", enable.branch, enable.sapi, enable.switch])
        yield ""
    for switch in plan.switched:
        yield from _comment("The web server, so that it hands PHP files to PHP")
        yield from _reasons(about_of(switch), plan.reasons.get(key_of(switch), ()))
        lists = (switch.without, switch.modules, switch.snippets)
        if any(lists):
            yield shell_words(["switch_web_server", *(" ".join(names) for names in lists)])
        yield from (shell_words(["link_site", one.file, one.link]) for one in switch.sites)
        yield ""


def _contents(plan: Plan) -> Iterator[str]:
    for file in plan.files:
        yield from (*_changes(plan, file.path), *_with_lines("write_file", file.path, file.content), "")
    for edit in plan.edits:
        yield from (*_changes(plan, edit.path), *_with_lines("change_file", edit.path, edit.diff), "")


def _directories(plan: Plan) -> Iterator[str]:
    for one in plan.arranged:
        yield from (*_comment("A directory"), *_reasons(one.arrangement.path, plan.reasons.get(key_of(one), ())))
        yield from (*(shell_words(words) for words in _arranged(one.arrangement)), "")


def _services(plan: Plan) -> Iterator[str]:
    for restart in plan.restarts:
        yield from _comment("The service, so that it runs with all of this")
        yield from _reasons(restart.service, plan.reasons.get(key_of(restart), ()))
        yield from (
            shell_words(
                [f"{restart.verb}_service", restart.service, *platform(plan.family).service_check(restart.service)]
            ),
            "",
        )


def _left(plan: Plan) -> Iterator[str]:
    for pool in plan.pools:
        yield from _comment(f"To be decided: let the web server hand the site of {pool.name} to unix:{pool.listen}")
    for need in plan.unresolved:
        yield from _comment(f"Not resolved: {need.application} {need.need} ({need.level}): {need.why}")


def _changes(plan: Plan, file: str) -> list[str]:
    """What is changed in one file, and why, as comments."""
    out = _comment("Settings")
    for change in plan.about(file):
        now = f" (now {change.before or 'not set'})" if isinstance(change, Change) else ""
        out += _reasons(f"{about_of(change)}{now}", plan.reasons.get(key_of(change), ()))
    return out


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


def _reasons(about: str, reasons: tuple[Reason, ...]) -> list[str]:
    return [line for reason in reasons for line in _comment(f"  {about}: {reason}")]


def _with_lines(function: str, path: str, content: str) -> list[str]:
    """A call with a path and the lines of a content, one below the other."""
    words = [f"{function} {shell_word(path)}", *(f"    {word}" for word in shell_lines(content))]
    return [*(word + " \\" for word in words[:-1]), words[-1]]


def _from(plan: Plan, source: str) -> list[str]:
    """The packages that the plan takes from a source, each with its version: those that it names, else all of them."""
    taken = [name for name, of in plan.sources.items() if of == source]
    named = [name for name in taken if any(one.package == name for one in plan.installs)]
    return [word for name in named or taken for word in (name, plan.versions.get(name, ""))]
