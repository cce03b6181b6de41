"""Operations as tasks of Ansible, each by Ansible's own module where it has one for it."""

import hashlib
import shlex
from collections.abc import Iterator
from typing import Any, Final

from fundamentum.changes.file_operations import EditFile, WriteFile
from fundamentum.changes.primitives import InstallPackages, Own, Primitive, SwitchExtension, SwitchStream, TakeAway
from fundamentum.changes.server_operations import MakeDatabase, SwitchInServer, TakeUp
from fundamentum.changes.service import Restart
from fundamentum.plan.made_plan import Plan
from fundamentum.platforms import platform
from fundamentum.platforms.base import Platform
from fundamentum.report.ansible_parts import database_variable, noted, script_task
from fundamentum.report.ansible_text import Ours, question_of, task_of, variable, words_of
from fundamentum.report.shell_library import AT_LINES
from fundamentum.webservers.base import SwitchCommand

KEPT: Final = "/var/backups/fundamentum"
"""Where copies of what is replaced are kept: no service reads it."""
GRANTED: Final = 'getfacl -cp -- "$1" | grep -qxF -- "$2"'
"""Whether an access list has an entry."""

PUT_AS_OWNER: Final = """\
[ ! -L "$2" ] || exit 1
exec setpriv --reuid "$(stat -c %u -- "${2%/*}")" --regid "$(stat -c %g -- "${2%/*}")" --clear-groups -- sh -c '
    rm -f -- "${1%/*}/.fundamentum."??????
    new=$(mktemp "${1%/*}/.fundamentum.XXXXXX") && cp -p -- "$1" "$new" && cat >"$new" && mv -f -- "$new" "$1"
' sh "$2" <"$1"
"""
"""Puts a file in the place of another with the rights of the directory's owner: no link of his leads any further."""

RUNS: Final = 'if [ -d /run/systemd/system ]; then exec systemctl is-active -q "$1"; else exec service "$1" status; fi'
"""Whether a service runs, under systemd or without."""
_BY_SERVICES: Final = {"when": Ours("not (skip_restart | default(false) | bool)")}
"""For tasks that take a service that runs."""
_VERBS: Final = {"reload": ("reloaded", "Reload"), "restart": ("restarted", "Restart")}


def tasks_of(operation: Primitive, plan: Plan, restarting: list[Ours]) -> Iterator[dict[str, Any]]:
    """An operation as tasks."""
    of = platform(plan.family)
    match operation:
        case SwitchStream(stream):
            name = variable("stream", stream)
            yield question_of(f"See whether the module stream {stream} is on", name, of.stream_query(stream))
            yield _decided(f"Stop unless the module stream {stream} is on", f"{name}.rc == 0", operation, plan)
        case TakeAway(packages):
            yield task_of(Ours("See which packages are installed"), "package_facts")
            for package in packages:
                gone = f"'{package}' not in ansible_facts.packages"
                yield _decided(f"Stop unless {package} is gone", gone, operation, plan)
        case InstallPackages():
            yield from _packages(operation, of, restarting)
        case SwitchExtension(switches):
            for switch in switches:
                yield from _enabled(switch, of, restarting)
        case SwitchInServer(parts):
            for part in parts:
                yield from _switched(part, restarting)
        case WriteFile(path):
            yield _place_for_copies()
            yield from _written(path, operation.content, restarting)
        case EditFile():
            yield _place_for_copies()
            tool = "Have the tool that changes files"
            yield task_of(Ours(tool), "package", name=Ours("patch"), state=Ours("present"))
            yield from _patched(operation, restarting)
        case Own():
            yield from _arranged(operation)
        case MakeDatabase():
            made = script_task(operation.title, database_variable(operation), Ours("{{ begun.stdout }}"))
            yield made | {"changed_when": Ours("': making it' in made.stdout"), "register": Ours("made")} | _BY_SERVICES
        case TakeUp(service, reads=False):
            yield from _started(service)
        case TakeUp(service, verb):
            restart = next(restart for restart in plan.of(Restart) if restart.service == service)
            if verb == "start":
                yield from taken_up(restart, of)
            elif plan.why(restart):
                yield _stale(restart, of)


def _decided(title: str, condition: str, operation: Primitive, plan: Plan) -> dict[str, Any]:
    """What a person decides and does: the playbook goes no further before it is so."""
    commands = "; ".join(operation.commands(platform(plan.family)))
    return task_of(title, "assert", that=[Ours(condition)], fail_msg=f"decide that: {commands}", quiet=True)


def _place_for_copies() -> dict[str, Any]:
    options = {"path": Ours(KEPT), "state": Ours("directory"), "mode": Ours("0700")}
    return task_of(Ours("Keep a place for copies"), "file", **options)


def _packages(operation: InstallPackages, of: Platform, restarting: list[Ours]) -> Iterator[dict[str, Any]]:
    if operation.names:
        options: dict[str, Any] = {"name": list(operation.names), "state": Ours("present")}
        yield noted("Note which packages are installed", "packages", *operation.names) | {"changed_when": False}
        module, options_of_module = of.ansible_install(options["name"])
        options |= options_of_module
        yield task_of(Ours("Install packages"), module, **options) | {"notify": restarting}
    for package in operation.again:
        tool, verb, *words = of.install([package], again=True)
        command = [Ours(tool), Ours(verb), Ours("-y"), *words]
        yield task_of(f"Install {package} again", "command", argv=command)


def _enabled(switch: tuple[str, ...], of: Platform, restarting: list[Ours]) -> Iterator[dict[str, Any]]:
    branch, sapi, file, extension = switch
    link = of.place(branch, sapi).scan_dir  # type: ignore[arg-type]
    name = variable("asked", f"{branch} {sapi} {extension}")
    words = words_of("phpquery -q -v {} -s {} -m {}", branch, sapi, file)
    yield question_of(f"See whether {extension} is on", name, words)
    tool, *words = of.switch_on(branch, sapi, file)
    argv = [Ours(tool), *words]
    needed = {"when": Ours(f"{name}.rc != 0")}
    back = shlex.join(of.switch_off(branch, sapi, file))
    yield noted(f"Note the way back for {extension}", "command", back) | needed | {"changed_when": False}
    task = task_of(f"Switch {extension} on below {link}", "command", argv=argv)
    yield task | needed | {"notify": restarting}


def _switched(part: SwitchCommand, restarting: list[Ours]) -> Iterator[dict[str, Any]]:
    """A part of a web server, asked about first."""
    name = variable("switched", f"{' '.join(part.command)} {part.name}")
    yield question_of(f"See whether {part.name} is on", name, part.query)
    task = task_of(f"{part.command[0]} {part.name}", "command", argv=list(part.command))
    needed = {"when": Ours(f"{name}.rc {'!=' if part.on else '=='} 0")}
    if part.back:
        note = noted(f"Note the way back for {part.name}", "command", shlex.join(part.back))
        yield note | needed | {"changed_when": False}
    yield task | needed | {"notify": restarting}


def _written(path: str, content: str, restarting: list[Ours]) -> Iterator[dict[str, Any]]:
    """A whole file; what it replaces is kept where no service reads it."""
    name = variable("before", path)
    asked = task_of(f"See {path}", "stat", path=path, checksum_algorithm=Ours("sha1"), follow=True)
    yield asked | {"register": Ours(name), "check_mode": False}
    digest = hashlib.sha1(content.encode(), usedforsecurity=False).hexdigest()
    yield _kept(path) | {"when": Ours(f"not {name}.stat.exists or {name}.stat.checksum != '{digest}'")}
    task = task_of(f"Write {path}", "copy", dest=path, content=content, mode=Ours("0644"))
    yield task | {"notify": restarting}


def _kept(path: str) -> dict[str, Any]:
    """A copy of a file, and the way back, in the journal."""
    return noted(f"Keep {path}", "file", path)


def _patched(edit: EditFile, restarting: list[Ours]) -> Iterator[dict[str, Any]]:
    """A change of a file that is there: by ``patch`` into another one, unless it is in it already."""
    path, diff = edit.path, edit.diff
    name = variable("changed", path)
    as_wanted = [Ours("awk"), Ours("-v"), Ours("sign=+"), Ours(AT_LINES), Ours("-"), path]
    yield question_of(f"See whether {path} is as wanted", name, as_wanted, stdin=diff)
    new = f"{KEPT}/{variable('new', path)}"
    wanted = {"when": Ours(f"{name}.rc != 0")}
    as_surveyed = [Ours("sign=-") if word == "sign=+" else word for word in as_wanted]
    stop = task_of(f"Stop if {path} has changed since this was planned", "command", argv=as_surveyed, stdin=diff)
    yield stop | wanted | {"changed_when": False, "check_mode": False}
    yield _kept(path) | wanted
    patch = words_of("patch --binary -s -f -r - -o {} {}", new, path)
    yield task_of(f"Change a copy of {path}", "command", argv=patch, stdin=diff) | wanted
    task = task_of(f"Change {path}", "copy", src=new, dest=path, remote_src=True)
    if edit.in_document_root:
        task = task_of(f"Change {path}", "command", argv=words_of("sh -c {} sh {} {}", PUT_AS_OWNER, new, path))
    done = {"when": [wanted["when"], Ours("not ansible_check_mode")]}
    yield task | done | {"notify": restarting}
    yield task_of(f"Remove the copy of {path}", "file", path=new, state=Ours("absent")) | done | {"changed_when": False}


def _stale(restart: Restart, of: Platform) -> dict[str, Any]:
    pidfile, *_ = of.service_check(restart.service)
    argv = words_of(f"find {' '.join(of.read_by_php)} -cnewer {{}} -print -quit", pidfile)
    name = variable("stale", restart.service)
    asked = question_of(f"See whether {restart.service} started too early", name, argv)
    changed = Ours(f"{name}.stdout | default('') != ''")
    return asked | {"changed_when": changed, "notify": [handler(restart.service)]}


def handler(service: str) -> Ours:
    """The name by which a task calls for a restart; in that of a service there is nothing to begin a template with."""
    return Ours(f"restart {service}")


def _arranged(change: Own) -> Iterator[dict[str, Any]]:
    """A directory, by Ansible's own module where it has one for it.  Links that came since the survey stop it."""
    for path in dict.fromkeys((change.path, *(path for path, _ in (*change.opened, *change.grants)))):
        name = variable("way", path)
        yield question_of(f"See where {path} leads", name, words_of("realpath -m -- {}", path))
        here = task_of(
            f"Stop if {path} leads elsewhere",
            "assert",
            that=[Ours(f"{name}.stdout == {name}.cmd[3]")],
            fail_msg=f"{path} now leads elsewhere, which is not to be changed; plan again",
            quiet=True,
        )
        yield here
    options: dict[str, Any] = {"path": change.path, "state": Ours("directory"), "follow": False}
    options |= {"owner": change.owner} if change.owner else {}
    options |= {"group": change.group} if change.group else {}
    options |= {"mode": Ours(f"{change.mode:04o}")} if change.mode is not None else {}
    mode = f"{change.mode:o}" if change.mode is not None else ""
    wanted = (change.path, change.owner or "", change.group or "", mode)
    if change.empty_file and change.make:
        made = {"dest": change.path, "content": Ours(""), "force": False, "follow": False}
        made |= {key: options[key] for key in ("owner", "group", "mode") if key in options}
        yield noted(f"Note the way back for {change.path}", "file", change.path) | {"changed_when": False}
        yield task_of(f"Make {change.path}", "copy", **made)
    elif len(options) > 3:
        options |= {"state": Ours("file")} if change.of_file else {}
        yield noted(f"Note the way back for {change.path}", "directory", *wanted) | {"changed_when": False}
        yield task_of(f"Give {change.user} {change.path}", "file", **options)
    for path, opened in change.opened:
        note = noted(f"Note the way back for {path}", "directory", path, "", "", f"{opened:o}")
        yield note | {"changed_when": False}
        words: dict[str, Any] = {"path": path, "mode": Ours(f"{opened:04o}"), "follow": False}
        yield task_of(f"Let {change.user} pass through {path}", "file", **words)
    for path, letters in change.grants:
        name = variable("access", path)
        entry = f"user:{change.user}:{letters if len(letters) == 3 else '--x'}"
        yield question_of(f"See who may enter {path}", name, words_of("sh -c {} sh {} {}", GRANTED, path, entry))
        grant = words_of("setfacl -m {} {}", f"u:{change.user}:{letters}", path)
        given = task_of(f"Let {change.user} have {letters} on {path}", "command", argv=grant)
        back = shlex.join(["setfacl", "-x", f"u:{change.user}", path])
        needed = {"when": Ours(f"{name}.rc != 0")}
        yield noted(f"Note the way back for {path}", "command", back) | needed | {"changed_when": False}
        yield given | needed
    if change.label:
        name = variable("label", change.path)
        yield question_of(f"See the label of {change.path}", name, words_of("stat -c %C {}", change.path))
        missing = {"when": Ours(f"':{change.label}:' not in {name}.stdout")}
        for command in change.argv()[-2:]:
            yield task_of(f"Label {change.path}", "command", argv=list(command)) | missing


def _started(service: str) -> list[dict[str, Any]]:
    """Start a service that does not run; only then is there a way back to write down."""
    name = variable("runs", service)
    asked = question_of(f"See whether {service} runs", name, words_of("sh -c {} sh {}", RUNS, service))
    stopped = {"when": [_BY_SERVICES["when"], Ours(f"{name}.rc != 0")]}
    note = noted(f"Note the way back for {service}", "service", "stop", service)
    start = task_of(f"Start {service}", "service", name=service, state=Ours("started"))
    return [asked, note | {"changed_when": False} | stopped, start | _BY_SERVICES]


def taken_up(restart: Restart, of: Platform) -> list[dict[str, Any]]:
    """Test the configuration, then start, restart or reload; the last two as a handler."""
    service = restart.service
    _, *command = of.service_check(service)
    test = task_of(f"Test the configuration of {service}", "command", argv=[Ours(word) for word in command])
    if restart.verb == "start":
        return [test | {"changed_when": False}, *_started(service)]
    state, title = _VERBS[restart.verb]
    called = {"listen": handler(service)}
    note = noted(f"Note the way back for {service}", "service", restart.verb, service)
    return [
        test | called | {"changed_when": False},
        note | called | {"changed_when": False},
        task_of(f"{title} {service}", "service", name=service, state=Ours(state)) | called | _BY_SERVICES,
    ]
