"""The files that a plan writes, and the services that have to read them."""

import posixpath
from collections.abc import Iterable, Sequence

from fundamentum.catalog.setting_line import ini_text
from fundamentum.model.actions import (
    Action,
    AddLine,
    AddLines,
    AddPool,
    Allow,
    Arrange,
    ChangeLine,
    Enable,
    Install,
    Manage,
    Restart,
    Schedule,
    Set,
    SwitchOn,
    Widen,
)
from fundamentum.model.findings import Target
from fundamentum.model.php import Runtime
from fundamentum.model.plan import DropIn
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform
from fundamentum.webservers import webserver


def restarts(actions: Sequence[Action], targets: Sequence[Target], family: str) -> list[Restart]:
    """Every service whose runtime is touched, once; web servers that only have to read their configuration again."""
    services = (
        target.runtime.service for target in targets if any(_touches(action, target.runtime) for action in actions)
    )
    found = {service: Restart(service) for service in services if service}
    for action in actions:
        if isinstance(action, Restart) and action.starts:
            found[action.service] = action
        if isinstance(action, SwitchOn) and (action.modules or action.snippets):
            service = platform(family).web_service(action.server)
            found.setdefault(service, Restart(service))
        if isinstance(action, Restart) and not action.gently:
            found.setdefault(action.service, action)
    for action in actions:
        if isinstance(action, Restart):
            found.setdefault(action.service, action)
        if isinstance(action, Allow | SwitchOn | AddLines) or (isinstance(action, Widen) and action.spot):
            service = platform(family).web_service(action.server)
            found.setdefault(service, Restart(service, gently=True))
        if isinstance(action, ChangeLine) and action.service:
            found.setdefault(action.service, Restart(action.service, gently=True))
    return list(found.values())


def _touches(action: Action, runtime: Runtime) -> bool:
    match action:
        case Restart(service):
            return service == runtime.service
        case Enable(_, _, branch, sapi):
            return (branch, sapi) == (runtime.branch, runtime.sapi)
        case Manage():
            return action.runtime == runtime.label
        case AddLines() | Widen() | Allow() | Arrange() | Schedule() | SwitchOn() | ChangeLine():
            return False
        case Set(_, _, _, file, label):
            return label == runtime.label or posixpath.dirname(file) == runtime.scan_dir
        case AddLine():
            return action.runtime == runtime.label
        case AddPool():
            return action.runtime == runtime.label
        case Install():
            return True


def files_of(
    settings: Sequence[Set], managed: Sequence[Manage], added: Iterable[AddPool], survey: Survey, label: str
) -> list[DropIn]:
    """The drop-in files.  What an earlier plan put into the same file, and still counts, is kept."""
    found: dict[str, dict[str, str]] = {one.file: {} for one in added}
    admin: set[tuple[str, str]] = set()
    heads = {one.file: _pool_head(one) for one in added}
    pool_of: dict[str, str | None] = {one.file: one.name for one in added}
    for change in settings:
        lines = found.setdefault(change.file, {})
        pool_of[change.file] = change.pool
        for runtime in survey.runtimes:
            for name, setting in runtime.settings.items():
                if setting.origin.set_in == change.file and setting.value is not None:
                    lines.setdefault(name, setting.value)
                    admin |= {(change.file, name)} if setting.admin else set()
    for change in settings:
        found[change.file][change.name] = change.after
        admin |= {(change.file, change.name)} if change.admin else set()
    own: dict[str, list[str]] = {}
    for one in managed:
        found.setdefault(one.file, {})
        pool_of[one.file] = one.pool
        own.setdefault(one.file, []).append(f"{one.name} = {one.after}")
    files = []
    for path, lines in sorted(found.items()):
        pool = pool_of[path]
        body = [f"; Limits for {label}, as planned by fundamentum."]
        body += heads.get(path) or ([f"[{pool}]"] if pool else [])
        body += own.get(path, [])
        for name, value in sorted(lines.items()):
            text = ini_text(value) or ""
            word = "php_admin_value" if (path, name) in admin else "php_value"
            body.append(f"{word}[{name}] = {text}" if pool else f"{name} = {text}")
        files.append(DropIn(path, "\n".join(body) + "\n"))
    return files


def web_server_files(allowed: Iterable[Allow], opened: Iterable[AddLines], label: str) -> list[DropIn]:
    """The files for a web server's main configuration, a line for each limit."""
    lines: dict[str, list[str]] = {}
    for added in opened:
        if added.spot is None:
            lines.setdefault(added.file, []).extend(added.lines)
    for one in allowed:
        lines.setdefault(one.file, []).append(webserver(one.server).statement(one.name, one.after))
    head = f"# For {label}, as planned by fundamentum."
    return [DropIn(path, "\n".join([head, *found]) + "\n") for path, found in sorted(lines.items())]


def cron_files(scheduled: Iterable[Schedule], label: str) -> list[DropIn]:
    """The files for cron, a line for each program."""
    lines: dict[str, list[str]] = {}
    for one in scheduled:
        lines.setdefault(one.file, []).append(one.line)
    head = f"# What {label} has to run at set times, as planned by fundamentum."
    return [DropIn(path, "\n".join([head, *found]) + "\n") for path, found in sorted(lines.items())]


def _pool_head(pool: AddPool) -> list[str]:
    """A pool that starts processes when they are needed, and whose socket the web server's user may use."""
    return [
        f"[{pool.name}]",
        f"user = {pool.user}",
        f"group = {pool.user}",
        f"listen = {pool.listen}",
        f"listen.owner = {pool.user}",
        f"listen.group = {pool.user}",
        "pm = ondemand",
        "pm.max_children = 5",
    ]
