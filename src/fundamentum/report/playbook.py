"""A plan as an Ansible playbook, for those with many servers: Ansible's own modules, checkable and repeatable."""

import re
from typing import Any, Final

import yaml

from fundamentum.check import directories
from fundamentum.check.model import Arrangement
from fundamentum.errors import FundamentumError
from fundamentum.plan.model import Action, Plan, Reason, Restart, key_of
from fundamentum.report.clean import clean
from fundamentum.report.script import FAMILIES, service_check

CONFIGURATION: Final = ("/etc/php", "/usr/lib/php", "/etc/php.d", "/etc/php.ini", "/etc/php-fpm.d", "/usr/lib64/php")
"""Where what a running PHP has read lies."""


class _Text(str):
    """Text from a server, an application or a plan: data, in which Ansible must not fill in any template."""


class _Dumper(yaml.SafeDumper):
    """Writes long texts as blocks, and marks those in which Ansible would look for templates."""


def _written(dumper: yaml.SafeDumper, text: _Text) -> yaml.ScalarNode:
    if "{" in text or "}" in text:
        return dumper.represent_scalar("!unsafe", str(text))
    plain = all(c.isprintable() or c == "\n" for c in text)
    block = plain and "\n" in text and not any(line[:1].isspace() or line != line.rstrip() for line in text.split("\n"))
    return dumper.represent_scalar("tag:yaml.org,2002:str", str(text), style="|" if block else None)


_Dumper.add_representer(_Text, _written)


def as_playbook(plan: Plan) -> str:
    """The playbook.  Words from a server or an application are marked as data, so that no template in them acts."""
    if plan.family not in FAMILIES and not plan.empty:
        raise FundamentumError(f"{plan.server}: a playbook can be written for the Debian and RHEL families only")
    tasks: list[dict[str, Any]] = []
    if plan.switch:
        tasks.append(_task(f"Switch to the module stream {plan.switch}", "dnf", name=[_Text(f"@{plan.switch}")]))
    fresh = [one for one in plan.installs if not one.again]
    if fresh:
        options: dict[str, Any] = {"name": [_Text(one.package) for one in fresh], "state": "present"}
        options["install_weak_deps" if plan.family == "redhat" else "install_recommends"] = False
        tasks.append(
            _task("Install packages", "dnf" if plan.family == "redhat" else "apt", **options)
            | {"notify": [_handler(one.service) for one in plan.restarts]}
        )
    for again in (one for one in plan.installs if one.again):
        command = ["apt-get", "install", "-y", "--reinstall", "--no-install-recommends", again.package]
        command = ["dnf", "-y", "reinstall", again.package] if plan.family == "redhat" else command
        tasks.append(_task(f"Install {again.package} again", "command", argv=[_Text(word) for word in command]))
    for enable in plan.enables:
        link = f"/etc/php/{enable.branch}/{enable.sapi}/conf.d"
        asked = _task(
            f"See whether {enable.extension} is on",
            "command",
            argv=[
                _Text(word) for word in ("phpquery", "-q", "-v", enable.branch, "-s", enable.sapi, "-m", enable.switch)
            ],
        )
        name = "asked_" + re.sub(r"\W", "_", f"{enable.branch}_{enable.sapi}_{enable.extension}")
        tasks.append(asked | {"register": name, "changed_when": False, "failed_when": False, "check_mode": False})
        argv = ["phpenmod", "-v", enable.branch, "-s", enable.sapi, enable.switch]
        tasks.append(
            _task(f"Switch {enable.extension} on below {link}", "command", argv=[_Text(word) for word in argv])
            | {"when": f"{name}.rc != 0", "notify": [_handler(one.service) for one in plan.restarts]}
        )
    for file in plan.files:
        options = {"dest": _Text(file.path), "content": _Text(file.content), "mode": "0644", "backup": True}
        tasks.append(
            _task(f"Write {file.path}", "copy", **options)
            | {"notify": [_handler(one.service) for one in plan.restarts]}
        )
    if plan.edits:
        tasks.append(_task("Have the tool that changes files", "package", name="patch", state="present"))
    for edit in plan.edits:
        tasks += _patched(edit.path, edit.diff, [_handler(one.service) for one in plan.restarts])
    for one in plan.arranged:
        tasks += _arranged(one.arrangement)
    for restart in plan.restarts:
        if plan.reasons.get(key_of(restart)):
            pidfile, *_ = service_check(restart.service)
            argv = ["find", *CONFIGURATION, "-cnewer", pidfile, "-print", "-quit"]
            asked = _task(f"See whether {restart.service} started too early", "command", argv=[_Text(w) for w in argv])
            name = "stale_" + re.sub(r"\W", "_", restart.service)
            asked |= {"register": name, "changed_when": f"{name}.stdout | default('') != ''", "failed_when": False}
            tasks.append(asked | {"check_mode": False, "notify": [_handler(restart.service)]})
    handlers = [handler for one in plan.restarts for handler in _restart(one)]
    play: dict[str, Any] = {
        "name": _Text(f"What {', '.join(one.needs.name for one in plan.after)} needs"),
        "hosts": "{{ target | default('all') }}",
        "become": True,
        "gather_facts": False,
        "tasks": tasks,
    }
    if handlers:
        play["handlers"] = handlers
    head = [f"Made for {plan.server}; run it on servers that are like it.", *_about(plan)]
    text: str = yaml.dump([play], Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=110)
    return "---\n" + "".join(f"# {clean(line)}\n" for line in head) + text


def _task(title: str, module: str, /, **options: Any) -> dict[str, Any]:
    return {"name": _Text(clean(title)), f"ansible.builtin.{module}": options}


def _handler(service: str) -> str:
    return f"restart {service}"


def _patched(path: str, diff: str, notify: list[str]) -> list[dict[str, Any]]:
    """A change of a file that is there: by ``patch``, unless it is in it already."""
    name = "changed_" + re.sub(r"\W", "_", path.strip("/"))
    words = ["patch", "--binary", "-R", "-s", "-f", "--dry-run", path]
    asked = _task(f"See whether {path} is as wanted", "command", argv=[_Text(w) for w in words], stdin=_Text(diff))
    change = _task(
        f"Change {path}",
        "command",
        argv=[_Text(word) for word in ("patch", "--binary", "-s", "-f", "-b", "-z", ".before", path)],
        stdin=_Text(diff),
    )
    return [
        asked | {"register": name, "changed_when": False, "failed_when": False, "check_mode": False},
        change | {"when": f"{name}.rc != 0", "notify": notify},
    ]


def _arranged(change: Arrangement) -> list[dict[str, Any]]:
    """A directory, by Ansible's own module where it has one for it."""
    out = []
    options: dict[str, Any] = {"path": _Text(change.path), "state": "directory"}
    options |= {"owner": change.owner} if change.owner else {}
    options |= {"group": change.group} if change.group else {}
    options |= {"mode": f"{change.mode:04o}"} if change.mode is not None else {}
    if len(options) > 2:
        out.append(_task(f"Give {change.user} {change.path}", "file", **options))
    for path, mode in change.opened:
        out.append(_task(f"Let {change.user} pass through {path}", "file", path=_Text(path), mode=f"{mode:04o}"))
    for path, letters in change.grants:
        name = "access_" + re.sub(r"\W", "_", path.strip("/"))
        entry = f"user:{change.user}:{letters if len(letters) == 3 else '--x'}"
        asked = _task(f"See who may enter {path}", "command", argv=[_Text(w) for w in ("getfacl", "-cp", path)])
        grant = ("setfacl", "-m", f"u:{change.user}:{letters}", path)
        out.append(asked | {"register": name, "changed_when": False, "check_mode": False})
        given = _task(f"Let {change.user} have {letters} on {path}", "command", argv=[_Text(w) for w in grant])
        out.append(given | {"when": f"'{entry}' not in {name}.stdout_lines"})
    if change.label:
        name = "label_" + re.sub(r"\W", "_", change.path.strip("/"))
        asked = _task(
            f"See the label of {change.path}", "command", argv=[_Text(w) for w in ("stat", "-c", "%C", change.path)]
        )
        out.append(asked | {"register": name, "changed_when": False, "check_mode": False, "failed_when": False})
        missing = {"when": f"':{change.label}:' not in {name}.stdout"}
        for words in directories.commands(change)[-2:]:
            out.append(_task(f"Label {change.path}", "command", argv=[_Text(word) for word in words]) | missing)
    return out


def _restart(restart: Restart) -> list[dict[str, Any]]:
    """Test the configuration, then restart or reload; both only if something changed."""
    service = restart.service
    _, *command = service_check(service)
    test = _task(f"Test the configuration of {service}", "command", argv=[_Text(word) for word in command])
    state, title = ("reloaded", "Reload") if restart.gently else ("restarted", "Restart")
    return [
        test | {"listen": _handler(service), "changed_when": False},
        _task(f"{title} {service}", "service", name=_Text(service), state=state)
        | {"listen": _handler(service), "when": "not (skip_restart | default(false) | bool)"},
    ]


def _about(plan: Plan) -> list[str]:
    lines = [
        "Choose them with -e target=GROUP.  Where no init system runs, -e skip_restart=true leaves services alone.",
        "Try it with --check first.",
    ]
    lines += [f"Package source to be configured first: {source}" for source in plan.repositories]
    actions: list[Action] = [*plan.installs, *plan.enables, *plan.settings, *plan.managed, *plan.widened, *plan.allowed]
    actions += [*plan.arranged, *plan.scheduled, *plan.restarts]
    for action in actions:
        reasons: tuple[Reason, ...] = plan.reasons.get(key_of(action), ())
        lines += [f"  {key_of(action)}: {reason}" for reason in reasons]
    if plan.along:
        lines.append(f"Packages that come along: {', '.join(plan.along)}")
    lines += [f"To be decided: let the web server hand the site of {p.name} to unix:{p.listen}" for p in plan.pools]
    lines += [f"Not resolved: {one.application} {one.need} ({one.level}): {one.why}" for one in plan.unresolved]
    return lines
