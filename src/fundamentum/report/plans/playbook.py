"""A plan as an Ansible playbook, for those with many servers: Ansible's own modules, checkable and repeatable."""

import hashlib
import re
import zlib
from collections.abc import Iterable, Iterator, Sequence
from typing import IO, Any, Final

import yaml

from fundamentum.changes.file_operations import EditFile, WriteFile
from fundamentum.changes.package_source import AddSource
from fundamentum.changes.pool import AddPool
from fundamentum.changes.primitives import (
    InstallPackages,
    Own,
    Primitive,
    SwitchExtension,
    SwitchInServer,
    SwitchStream,
    TakeAway,
    TakeUp,
)
from fundamentum.changes.service import Restart
from fundamentum.errors import FundamentumError
from fundamentum.kinds import reason_in_words
from fundamentum.model.survey import Survey
from fundamentum.plan.made_plan import Plan
from fundamentum.platforms import families, platform
from fundamentum.platforms.base import Platform
from fundamentum.report.escape import clean
from fundamentum.report.shell_library import AT_LINES
from fundamentum.report.written_text import write_out
from fundamentum.webservers.base import SwitchCommand

KEPT: Final = "/var/backups/fundamentum"
"""Where copies of what is replaced are kept: no service reads it."""
HOSTS: Final = "{{ target | mandatory('name the servers that are meant: -e target=GROUP') }}"
GRANTED: Final = 'getfacl -cp -- "$1" | grep -qxF -- "$2"'
"""Whether an access list has an entry."""

PUT_AS_OWNER: Final = """\
[ ! -L "$2" ] || exit 1
exec setpriv --reuid "$(stat -c %u -- "${2%/*}")" --regid "$(stat -c %g -- "${2%/*}")" --clear-groups -- sh -c '
    new=$(mktemp "${1%/*}/.fundamentum.XXXXXX") && cp -p -- "$1" "$new" && cat >"$new" && mv -f -- "$new" "$1"
' sh "$2" <"$1"
"""
"""Puts a file in the place of another with the rights of the directory's owner: no link of his leads any further."""

_VERBS: Final = {"start": ("started", "Start"), "reload": ("reloaded", "Reload"), "restart": ("restarted", "Restart")}


class _Ours(str):
    """Text of this program: a template of Ansible's, a word that one of its modules knows, a name made of safe letters.

    Every other text is data, and marked so that Ansible looks for no template in it: neither braces nor a header that
    changes what a template looks like.
    """


class _Dumper(yaml.SafeDumper):
    """Writes long texts as blocks, and marks all that is not ours."""


def _data(dumper: yaml.SafeDumper, text: str) -> yaml.ScalarNode:
    plain = all(c.isprintable() or c == "\n" for c in text)
    block = plain and "\n" in text and not any(line[:1].isspace() or line != line.rstrip() for line in text.split("\n"))
    return dumper.represent_scalar("!unsafe", text, style="|" if block else None)


def _ours(dumper: yaml.SafeDumper, text: _Ours) -> yaml.ScalarNode:
    return dumper.represent_scalar("tag:yaml.org,2002:str", str(text))


_Dumper.add_representer(str, _data)
_Dumper.add_representer(_Ours, _ours)


def write(stream: IO[str], plan: Plan, survey: Survey | None, *, full: bool = False) -> None:
    """The playbook, to the stream."""
    write_out(as_playbook(plan), stream)


def as_playbook(plan: Plan) -> str:
    """The playbook.  Words from a server or an application are marked as data, so that no template in them acts."""
    of = platform(plan.family)
    if not of.carried_out and not plan.empty:
        raise FundamentumError(f"{plan.server}: a playbook can be written for the {families()} only")
    restarting = [_handler(restart.service) for restart in plan.of(Restart) if restart.verb != "start"]
    tasks = list(_once(task for step in plan.steps for task in _tasks(step.operation, plan, restarting)))
    handlers = [task for restart in plan.of(Restart) if restart.verb != "start" for task in _restart(restart, of)]
    names = ", ".join(application.name for application in plan.applications)
    play: dict[str, Any] = {
        "name": f"What {names} needs",
        "hosts": _Ours(HOSTS),
        "become": True,
        "gather_facts": False,
        "tasks": tasks,
    }
    if handlers:
        play["handlers"] = handlers
    # The keys are all ours; so that they are not marked, the dumper is given them as such.
    head = [f"Made for {plan.server}; run it on servers that are like it.", *_about(plan)]
    text: str = yaml.dump([_keyed(play)], Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=110)
    return "---\n" + "".join(f"# {clean(line)}\n" for line in head) + text


def _once(tasks: Iterable[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    """The tasks, those that prepare something for several of them only once."""
    prepared: list[dict[str, Any]] = []
    for task in tasks:
        if isinstance(task["name"], _Ours) and task in prepared:
            continue
        prepared.append(task)
        yield task


def _tasks(operation: Primitive, plan: Plan, restarting: list[_Ours]) -> Iterator[dict[str, Any]]:
    """An operation as tasks."""
    of = platform(plan.family)
    match operation:
        case SwitchStream(stream):
            name = _variable("stream", stream)
            yield _asked(f"See whether the module stream {stream} is on", name, of.stream_query(stream))
            yield _decided(f"Stop unless the module stream {stream} is on", f"{name}.rc == 0", operation, plan)
        case TakeAway(packages):
            yield _task(_Ours("See which packages are installed"), "package_facts")
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
            yield _task(_Ours(tool), "package", name=_Ours("patch"), state=_Ours("present"))
            yield from _patched(operation, restarting)
        case Own():
            yield from _arranged(operation)
        case TakeUp(service, verb):
            restart = next(restart for restart in plan.of(Restart) if restart.service == service)
            if verb == "start":
                yield from _restart(restart, of)
            elif plan.why(restart):
                yield _stale(restart, of)


def _decided(title: str, condition: str, operation: Primitive, plan: Plan) -> dict[str, Any]:
    """What a person decides and does: the playbook goes no further before it is so."""
    commands = "; ".join(operation.commands(platform(plan.family)))
    return _task(title, "assert", that=[_Ours(condition)], fail_msg=f"decide that: {commands}", quiet=True)


def _place_for_copies() -> dict[str, Any]:
    options = {"path": _Ours(KEPT), "state": _Ours("directory"), "mode": _Ours("0700")}
    return _task(_Ours("Keep a place for copies"), "file", **options)


def _keyed(value: Any) -> Any:
    if isinstance(value, dict):
        return {_Ours(key): _keyed(one) for key, one in value.items()}
    return [_keyed(one) for one in value] if isinstance(value, list | tuple) else value


def _task(title: str, module: str, /, **options: Any) -> dict[str, Any]:
    name = title if isinstance(title, _Ours) else clean(title)
    return {"name": name, f"ansible.builtin.{module}": options}


def _argv(shape: str, *data: str) -> list[str]:
    """The words of a command: ``{}`` stands for a word that is not ours."""
    given = iter(data)
    return [next(given) if word == "{}" else _Ours(word) for word in shape.split()]


def _asked(title: str, name: str, argv: Sequence[str], **more: Any) -> dict[str, Any]:
    """A question to the server, which changes nothing and is asked in a trial run too."""
    asked = _task(title, "command", argv=list(argv), **more)
    return asked | {"register": _Ours(name), "changed_when": False, "failed_when": False, "check_mode": False}


def _variable(kind: str, text: str) -> str:
    """The name of a variable: letters, digits and a number that tells it from others."""
    plain = re.sub(r"[^A-Za-z0-9]+", "_", text).strip("_")[:60]
    return f"{kind}_{plain}_{zlib.crc32(text.encode()):08x}"


def _packages(operation: InstallPackages, of: Platform, restarting: list[_Ours]) -> Iterator[dict[str, Any]]:
    if operation.names:
        options: dict[str, Any] = {"name": list(operation.names), "state": _Ours("present")}
        module, more = of.ansible_install(options["name"])
        options |= more
        yield _task(_Ours("Install packages"), module, **options) | {"notify": restarting}
    for package in operation.again:
        tool, verb, *words = of.install([package], again=True)
        command = [_Ours(tool), _Ours(verb), _Ours("-y"), *words]
        yield _task(f"Install {package} again", "command", argv=command)


def _enabled(switch: tuple[str, ...], of: Platform, restarting: list[_Ours]) -> Iterator[dict[str, Any]]:
    branch, sapi, file, extension = switch
    link = of.place(branch, sapi).scan_dir  # type: ignore[arg-type]
    name = _variable("asked", f"{branch} {sapi} {extension}")
    words = _argv("phpquery -q -v {} -s {} -m {}", branch, sapi, file)
    yield _asked(f"See whether {extension} is on", name, words)
    tool, *words = of.switch_on(branch, sapi, file)
    argv = [_Ours(tool), *words]
    task = _task(f"Switch {extension} on below {link}", "command", argv=argv)
    yield task | {"when": _Ours(f"{name}.rc != 0"), "notify": restarting}


def _switched(part: SwitchCommand, restarting: list[_Ours]) -> Iterator[dict[str, Any]]:
    """A part of a web server, asked about first."""
    command = " ".join(part.command[:-1])
    name = _variable("switched", f"{command} {part.name}")
    yield _asked(f"See whether {part.name} is on", name, _argv(f"{' '.join(part.query[:-1])} {{}}", part.name))
    task = _task(f"{part.command[0]} {part.name}", "command", argv=_argv(f"{command} {{}}", part.name))
    yield task | {"when": _Ours(f"{name}.rc {'!=' if part.on else '=='} 0"), "notify": restarting}


def _written(path: str, content: str, restarting: list[_Ours]) -> Iterator[dict[str, Any]]:
    """A whole file; what it replaces is kept where no service reads it."""
    name = _variable("before", path)
    asked = _task(f"See {path}", "stat", path=path, checksum_algorithm=_Ours("sha1"), follow=True)
    yield asked | {"register": _Ours(name), "check_mode": False}
    digest = hashlib.sha1(content.encode(), usedforsecurity=False).hexdigest()
    yield _kept(path) | {"when": _Ours(f"{name}.stat.exists and {name}.stat.checksum != '{digest}'")}
    task = _task(f"Write {path}", "copy", dest=path, content=content, mode=_Ours("0644"))
    yield task | {"notify": restarting}


def _kept(path: str) -> dict[str, Any]:
    """A copy of a file, in root's own directory; one more for each time it is changed."""
    argv = _argv("cp -p --backup=numbered -- {} {}", path, f"{KEPT}/{path.strip('/').replace('/', '__')}")
    return _task(f"Keep {path}", "command", argv=argv)


def _patched(edit: EditFile, restarting: list[_Ours]) -> Iterator[dict[str, Any]]:
    """A change of a file that is there: by ``patch`` into another one, unless it is in it already."""
    path, diff = edit.path, edit.diff
    name = _variable("changed", path)
    as_wanted = [_Ours("awk"), _Ours("-v"), _Ours("sign=+"), _Ours(AT_LINES), _Ours("-"), path]
    yield _asked(f"See whether {path} is as wanted", name, as_wanted, stdin=diff)
    new = f"{KEPT}/{_variable('new', path)}"
    wanted = {"when": _Ours(f"{name}.rc != 0")}
    as_surveyed = [_Ours("sign=-") if word == "sign=+" else word for word in as_wanted]
    stop = _task(f"Stop if {path} has changed since this was planned", "command", argv=as_surveyed, stdin=diff)
    yield stop | wanted | {"changed_when": False, "check_mode": False}
    yield _kept(path) | wanted
    patch = _argv("patch --binary -s -f -r - -o {} {}", new, path)
    yield _task(f"Change a copy of {path}", "command", argv=patch, stdin=diff) | wanted
    task = _task(f"Change {path}", "copy", src=new, dest=path, remote_src=True)
    if edit.in_document_root:
        task = _task(f"Change {path}", "command", argv=_argv("sh -c {} sh {} {}", PUT_AS_OWNER, new, path))
    done = {"when": [wanted["when"], _Ours("not ansible_check_mode")]}
    yield task | done | {"notify": restarting}
    yield _task(f"Remove the copy of {path}", "file", path=new, state=_Ours("absent")) | done | {"changed_when": False}


def _stale(restart: Restart, of: Platform) -> dict[str, Any]:
    pidfile, *_ = of.service_check(restart.service)
    argv = _argv(f"find {' '.join(of.read_by_php)} -cnewer {{}} -print -quit", pidfile)
    name = _variable("stale", restart.service)
    asked = _asked(f"See whether {restart.service} started too early", name, argv)
    changed = _Ours(f"{name}.stdout | default('') != ''")
    return asked | {"changed_when": changed, "notify": [_handler(restart.service)]}


def _handler(service: str) -> _Ours:
    """The name by which a task calls for a restart; in that of a service there is nothing to begin a template with."""
    return _Ours(f"restart {service}")


def _arranged(change: Own) -> Iterator[dict[str, Any]]:
    """A directory, by Ansible's own module where it has one for it.  Links that came since the survey stop it."""
    for path in dict.fromkeys((change.path, *(path for path, _ in (*change.opened, *change.grants)))):
        name = _variable("way", path)
        yield _asked(f"See where {path} leads", name, _argv("realpath -m -- {}", path))
        here = _task(
            f"Stop if {path} leads elsewhere",
            "assert",
            that=[_Ours(f"{name}.stdout == {name}.cmd[3]")],
            fail_msg=f"{path} now leads elsewhere, which is not to be changed; plan again",
            quiet=True,
        )
        yield here
    options: dict[str, Any] = {"path": change.path, "state": _Ours("directory"), "follow": False}
    options |= {"owner": change.owner} if change.owner else {}
    options |= {"group": change.group} if change.group else {}
    options |= {"mode": _Ours(f"{change.mode:04o}")} if change.mode is not None else {}
    if len(options) > 3:
        yield _task(f"Give {change.user} {change.path}", "file", **options)
    for path, mode in change.opened:
        words: dict[str, Any] = {"path": path, "mode": _Ours(f"{mode:04o}"), "follow": False}
        yield _task(f"Let {change.user} pass through {path}", "file", **words)
    for path, letters in change.grants:
        name = _variable("access", path)
        entry = f"user:{change.user}:{letters if len(letters) == 3 else '--x'}"
        yield _asked(f"See who may enter {path}", name, _argv("sh -c {} sh {} {}", GRANTED, path, entry))
        grant = _argv("setfacl -m {} {}", f"u:{change.user}:{letters}", path)
        given = _task(f"Let {change.user} have {letters} on {path}", "command", argv=grant)
        yield given | {"when": _Ours(f"{name}.rc != 0")}
    if change.label:
        name = _variable("label", change.path)
        yield _asked(f"See the label of {change.path}", name, _argv("stat -c %C {}", change.path))
        missing = {"when": _Ours(f"':{change.label}:' not in {name}.stdout")}
        for command in change.argv()[-2:]:
            yield _task(f"Label {change.path}", "command", argv=list(command)) | missing


def _restart(restart: Restart, of: Platform) -> list[dict[str, Any]]:
    """Test the configuration, then restart or reload; both only if something changed."""
    service = restart.service
    _, *command = of.service_check(service)
    test = _task(f"Test the configuration of {service}", "command", argv=[_Ours(word) for word in command])
    state, title = _VERBS[restart.verb]
    # A task of its own, or one that changes call for.
    called = {} if restart.verb == "start" else {"listen": _handler(service)}
    return [
        test | called | {"changed_when": False},
        _task(f"{title} {service}", "service", name=service, state=_Ours(state))
        | called
        | {"when": _Ours("not (skip_restart | default(false) | bool)")},
    ]


def _about(plan: Plan) -> list[str]:
    lines = [
        "Choose them with -e target=GROUP; without, it stops.",
        "Where no init system runs, -e skip_restart=true leaves services alone.",
        "Try it with --check first.",
    ]
    lines += [f"Package source to be configured first: {source.source}" for source in plan.of(AddSource)]
    lines += [f"  {change.key}: {reason_in_words(reason)}" for change, reason in plan.why_all(plan.changes)]
    if plan.along:
        lines.append(f"Packages that come along: {', '.join(plan.along)}")
    lines += [f"To be decided: {plan.consequences[pool.key]}" for pool in plan.of(AddPool)]
    lines += [f"Not resolved: {need.application} {need.need} ({need.level}): {need.why}" for need in plan.unresolved]
    return lines
