"""A plan as a POSIX shell script that is safe to read and safe to run twice."""

import re
from pathlib import Path
from typing import Final

from fundamentum.check import directories
from fundamentum.check.model import Arrangement
from fundamentum.errors import FundamentumError
from fundamentum.plan.model import Allow, Manage, Plan, Reason, Set, Widen, about_of, key_of
from fundamentum.report.escape import clean, shell_lines, shell_word, shell_words

_HEAD: Final = Path(__file__).with_name("script_head.sh")
FAMILIES: Final = ("debian", "redhat")


def as_script(plan: Plan) -> str:
    """The script.  Every word that comes from a server or an application is quoted."""
    if plan.family not in FAMILIES and not plan.empty:
        raise FundamentumError(f"{plan.server}: a script can be written for the Debian and RHEL families only")
    names = ", ".join(one.needs.name for one in plan.after)
    runtimes = ", ".join(dict.fromkeys(one.target.runtime.label for one in plan.after))
    head = _HEAD.read_text("utf-8").replace("family=debian", f"family={plan.family}")
    out = ["#!/bin/sh", *_comment(f"What {plan.server} lacks for {names} on {runtimes}."), head]
    fresh = [one for one in plan.installs if not one.again]
    again = [one for one in plan.installs if one.again]
    for source in plan.repositories:
        out += _comment(f"Package source to be configured first: {source}")
        out += [shell_words(["need_source", clean(source), *_from(plan, source)]), ""]
    if plan.switch:
        out += _comment("The module stream; what is installed of another one is replaced")
        out += [shell_words(["switch_stream", *plan.switch.split(":", 1)]), ""]
    for title, function, group in (
        ("Packages", "install_packages", fresh),
        ("Packages whose files are not what they should be", "install_again", again),
    ):
        if group:
            out += _comment(title)
            for one in group:
                out += _reasons(one.package, plan.reasons.get(key_of(one), ()))
            if plan.along and group is fresh:
                out += _comment(f"With them come, as dependencies: {', '.join(plan.along)}")
            if plan.removes and group is fresh:
                out += _comment(f"They take away: {', '.join(plan.removes)}")
            out += [f"{function} {shell_words(one.package for one in group)}", ""]
    if plan.enables:
        out += _comment("Extensions that are there, but not switched on")
        for enable in plan.enables:
            out += _reasons(enable.extension, plan.reasons.get(key_of(enable), ()))
            out.append(shell_words(["switch_on", enable.branch, enable.sapi, enable.switch]))
        out.append("")
    for one_switch in plan.switched:
        out += _comment("The web server, so that it hands PHP files to PHP")
        out += _reasons(about_of(one_switch), plan.reasons.get(key_of(one_switch), ()))
        lists = (one_switch.without, one_switch.modules, one_switch.snippets)
        out += [shell_words(["switch_web_server", *(" ".join(names) for names in lists)]), ""]
    for file in plan.files:
        out += [*_changes(plan, file.path), *_with_lines("write_file", file.path, file.content), ""]
    for edit in plan.edits:
        out += [*_changes(plan, edit.path), *_with_lines("change_file", edit.path, edit.diff), ""]
    for arrange in plan.arranged:
        path = arrange.arrangement.path
        out += [*_comment("A directory"), *_reasons(path, plan.reasons.get(key_of(arrange), ()))]
        out += [*(shell_words(words) for words in _arranged(arrange.arrangement)), ""]
    for restart in plan.restarts:
        out += _comment("The service, so that it runs with all of this")
        out += _reasons(restart.service, plan.reasons.get(key_of(restart), ()))
        function = "reload_service" if restart.gently else "restart_service"
        out += [shell_words([function, restart.service, *service_check(restart.service)]), ""]
    for pool in plan.pools:
        out += _comment(f"To be decided: let the web server hand the site of {pool.name} to unix:{pool.listen}")
    for need in plan.unresolved:
        out += _comment(f"Not resolved: {need.application} {need.need} ({need.level}): {need.why}")
    if any('"$cr"' in line for line in out):
        out.insert(out.index(head) + 1, "cr=$(printf '\\r')\n")
    out += ["finish"] if not plan.empty else ['say "nothing to do"']
    return "\n".join(out).rstrip("\n") + "\n"


def _changes(plan: Plan, file: str) -> list[str]:
    """What is changed in one file, and why, as comments."""
    out = _comment("Settings")
    for change in plan.about(file):
        now = f" (now {change.before or 'not set'})" if isinstance(change, Set | Manage | Widen | Allow) else ""
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


def service_check(service: str) -> list[str]:
    """The file that holds the service's process number, and the command with which it tests its own configuration."""
    if match := re.fullmatch(r"php(\d+\.\d+)-fpm", service):
        return [f"/run/php/{service}.pid", f"php-fpm{match[1]}", "-t"]
    if service == "php-fpm":
        return ["/run/php-fpm/php-fpm.pid", "php-fpm", "-t"]
    if match := re.fullmatch(r"([A-Za-z0-9_.-]+)-php-fpm", service):  # a branch that stands in a place of its own
        return [f"/run/{service}.pid", "true"]
    if service == "nginx":
        return ["/run/nginx.pid", "nginx", "-t"]
    if service == "httpd":
        return ["/run/httpd/httpd.pid", "httpd", "-t"]
    return ["/run/apache2/apache2.pid", "apache2ctl", "configtest"]
