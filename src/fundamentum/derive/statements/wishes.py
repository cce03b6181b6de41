"""What source says of its surroundings: settings it sets or compares, commands it runs, directories it writes to."""

import itertools
import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.catalog.quantity import quantity
from fundamentum.derive.families import LIMITS
from fundamentum.derive.php_source.facts import Wish
from fundamentum.derive.php_source.nodes import arguments, line, parent_of, string, text
from fundamentum.derive.php_source.source import Source
from fundamentum.derive.statements.tables import rows
from fundamentum.derive.statements.values import UNKNOWN, values

COMMANDS: Final = frozenset({"exec", "shell_exec", "system", "passthru", "popen", "proc_open"})
DIRECTORIES: Final = {
    "is_writable": 0, "is_writeable": 0, "mkdir": 0, "file_put_contents": 0, "move_uploaded_file": 1, "tempnam": 0,
    "copy": 1, "rename": 1, "imagejpeg": 1, "imagepng": 1, "imagegif": 1, "imagewebp": 1,
}  # fmt: skip
"""Functions that write, or ask whether one may, and which of their arguments is the place."""
_OF_FILES: Final = DIRECTORIES.keys() - {"is_writable", "is_writeable", "mkdir", "tempnam"}
SETTINGS: Final = frozenset({"ini_get", "get_cfg_var", "ini_set", "set_time_limit"})
CALLS: Final = COMMANDS | DIRECTORIES.keys() | SETTINGS

_EVERYWHERE: Final = frozenset(
    "cd echo ls cat rm cp mv mkdir ln chmod chown true false test which type command set export exec nice sh bash "
    "env php sudo date uname hostname whoami id ps kill pwd sleep touch head tail sort wc cut tr sed grep awk "
    "find xargs nohup time cmd start dir copy del where tasklist wmic mode df du free uptime nproc mktemp stat "
    "tee printf perl python python3 readlink dirname basename if for while csh ksh dash zsh fish tcsh cscript "
    "powershell arch base64 cksum chgrp comm dd dircolors env expr fold groups head install join link logname "
    "md5sum nl nproc od paste pathchk pinky pr printenv realpath rmdir seq sha1sum sha256sum sha512sum shred shuf "
    "split stdbuf stty sum sync tac timeout truncate tty uniq unlink users vdir who yes "
    "rd md ver cls taskkill xcopy robocopy wscript reg net icacls cacls schtasks runas explorer mklink sc".split()
)
LOOKING: Final = frozenset({"which", "type", "command", "whereis", "where"})
"""Commands that look for the one that they are given: ``which convert``, ``command -v convert``"""
_COMMAND: Final = re.compile(r"[A-Za-z][\w+.-]*")
_NUMBER: Final = re.compile(r"-?\d+\s*[kKmMgG]?")
_PATH: Final = re.compile(r"[\w./-]{1,120}")


def wishes_of(source: Source, call: Node, name: str) -> Iterator[Wish]:
    """What one call of a function of ``CALLS`` tells."""
    given = arguments(call)
    at = line(call)
    if name == "set_time_limit" and given:
        seconds = text(given[0])
        if seconds.isdigit() and int(seconds) > 0:
            yield Wish("setting", "max_execution_time", f">= {seconds}", at, f"set_time_limit({seconds})")
    elif name == "ini_set" and len(given) > 1:
        directive, value = string(given[0]), string(given[1])
        if directive in LIMITS and value is not None and _sensible(value):
            yield Wish("setting", directive, f">= {value}", at, f"ini_set('{directive}', '{value}')")
    elif name in COMMANDS and given:
        yield Wish("function", name, "", at, f"{name}()")
        # Words in an array: the first is the command.
        first = given[0].named_children[0] if given[0].type == "array_creation_expression" else None
        told = first.named_children[0] if first is not None and first.named_children else given[0]
        beginnings = (_beginning(value, text(told)) for value in values(told, source))
        for command in dict.fromkeys(command_of(known, whole=not unknown) for known, unknown, _ in beginnings):
            if command:
                yield Wish("command", command, "", at, f"{name}()")
    elif name in DIRECTORIES and len(given) > DIRECTORIES[name]:
        file = name in _OF_FILES
        commands = (
            path
            for value in values(given[DIRECTORIES[name]], source)
            for path in directories_named(value, of_file=file)
        )
        for path in dict.fromkeys(commands):
            yield Wish("directory", path, "", at, f"{name}()")


_PROGRAM: Final = re.compile(rb"['\"](/(?:usr/)?(?:local/)?s?bin/([A-Za-z][\w.+-]{1,40}))['\"]")
STARTING: Final = re.compile(
    rb"(?:\bnew\s+\\?(?:\w+\\)*Process\s*\(\s*(?:\[|array\s*\()|\bProcess::fromShellCommandline\s*\()"
    rb"\s*(['\"](?:/[\w./-]+/)?([A-Za-z][\w.+-]{1,40})(?:['\"]|\s))"
)
"""``new Process(['pdftotext', $file])``, ``Process::fromShellCommandline('git describe')``"""


def programs_in(source: Source) -> Iterator[Wish]:
    """Programs that are named by their paths, as configurations do: ``$config['ffmpeg'] = '/usr/bin/ffmpeg';``"""
    for match in itertools.chain(
        _PROGRAM.finditer(source.data), STARTING.finditer(source.data if b"Process" in source.data else b"")
    ):
        node = source.at(match.start(2), match.end(2))
        name = match[2].decode("latin-1")
        if node is not None and node.type == "string_content" and name.lower() not in _EVERYWHERE:
            expression = node.parent
            joined = parent_of(expression) if match[1].startswith((b"/bin/", b"/sbin/")) else None
            if joined is not None and joined.type == "binary_expression" and joined.named_children[0] != expression:
                continue  # $root . '/bin/collect': one of the application's own
            written = match[1].decode("latin-1").strip("'\"")
            yield Wish("command", name, "", line(node), f"'{written}'")
            if match.re is STARTING:
                yield Wish("function", "proc_open", "", line(node), "a process is started")


IN_BACKTICKS: Final = "shell_command_expression"
"""How the parser calls a line for the shell that is started where it stands, as ``shell_exec`` starts it."""
_BACKTICK: Final = re.compile(rb"`")


def lines_for_shell(source: Source) -> Iterator[Wish]:
    """What lines in backticks start."""
    for match in _BACKTICK.finditer(source.data):
        node = source.at(*match.span())
        line_of_shell = node.parent if node is not None and node.type == "`" else node
        if line_of_shell is None or line_of_shell.type != IN_BACKTICKS or line_of_shell.start_byte != match.start():
            continue
        kids = line_of_shell.named_children
        value = "".join(text(kid) if kid.type == "string_content" else UNKNOWN for kid in kids)
        known, unknown, _ = _beginning(value, "")
        yield Wish("function", "shell_exec", "", line(line_of_shell), "a line in backticks")
        if command := command_of(known, whole=not unknown):
            yield Wish("command", command, "", line(line_of_shell), "a line in backticks")


RIGHTS: Final = re.compile(
    rb"(?P<named>['\"](?:\w{0,30}permissions?|\w{0,30}?writ\w{1,20})['\"]\s*+=>|\breturn|=)\s*+(?:\[|array\s*+\()"
    rb"(?P<body>(?:\s*+['\"][\w./-]{2,80}['\"]\s*+=>\s*+['\"]?0?7[0-7]{2}['\"]?\s*+,?){1,40})",
    re.I,
)
"""``'permissions' => ['storage/logs/' => '775']``, as configurations of installers have it; or a table of its own"""
_RIGHT: Final = re.compile(rb"['\"]([\w./-]{2,80})['\"]\s*+=>\s*+(?P<octal>['\"]|0)?")
_USUAL_RIGHTS: Final = tuple(f"{right}".encode() for right in (755, 770, 775, 777))


def speaks_of_rights(data: bytes) -> bool:
    """Whether a file may hold a table that says who may write to directories."""
    return any(right in data for right in _USUAL_RIGHTS) and RIGHTS.search(data) is not None


def directories_in(data: bytes) -> Iterator[Wish]:
    """Directories of a table that says who may write to them."""
    told = rows(RIGHTS.finditer(data), _RIGHT) if speaks_of_rights(data) else ()
    for _, of_one in itertools.groupby(told, key=lambda row: row[0].start()):
        mentions = list(of_one)
        named = mentions[0][0]["named"].startswith((b"'", b'"'))
        if named or (len(mentions) > 1 and all(b"/" in entry[1] and entry["octal"] for _, entry, _ in mentions)):
            for _, entry, at in mentions:
                path = entry[1].decode()
                yield Wish("directory", path.rstrip("/"), "", at, f"'{path}' in a table of permissions")


_IN_DIRECTORY: Final = re.compile(r"(?:dir|path|bin|prefix)\w*['\"]?\]?\s*\.", re.I)
"""A command in a directory that is configured: ``$config['tools_dir'] . 'convert -version'``"""


def _beginning(value: str, written: str) -> tuple[str, str, str]:
    """What is known of a command from its beginning on; of one in a directory that is not known, from the name on."""
    value = _STEP.sub("", value)  # where it is started is most often not known
    known = value.partition(UNKNOWN)
    named = value[1:2].isalpha() or value[1:2] == "/"
    in_directory = not known[0] and named and _IN_DIRECTORY.search(written[:80]) is not None
    return value.removeprefix(UNKNOWN).partition(UNKNOWN) if in_directory else known


ASKS_MODULES: Final = b"apache_get_modules"
_MODULE: Final = re.compile(rb"['\"]mod_(\w{2,20})['\"]")
_NEAR: Final = 300
"""Bytes before and behind the question for the web server's modules in which one is named."""


_LISTED: Final = re.compile(
    rb"['\"]apache\w{0,20}['\"]\s*+=>\s*+(?:\[|array\s*+\()(?P<body>(?:\s*+['\"]mod_\w{2,20}['\"]\s*+,?){1,20})"
)


def speaks_of_modules(lowered: bytes) -> bool:
    """Whether a file, in small letters, may ask for modules of Apache."""
    return ASKS_MODULES in lowered or (b"mod_" in lowered and _LISTED.search(lowered) is not None)


def modules_in(data: bytes) -> Iterator[Wish]:
    """Modules of Apache that are asked for, or listed.

    ``in_array('mod_rewrite', apache_get_modules())``, ``'requirements' => ['apache' => ['mod_rewrite']]``
    """
    lowered = data.lower()
    if not speaks_of_modules(lowered):
        return
    for listed in _LISTED.finditer(lowered):
        for module in _MODULE.finditer(lowered, *listed.span("body")):
            at = lowered.count(b"\n", 0, module.start()) + 1
            yield Wish("web_module", module[1].decode(), "", at, "in a list of Apache's modules")
    at = lowered.find(ASKS_MODULES)
    while at >= 0:
        for module in _MODULE.finditer(lowered, max(at - _NEAR, 0), at + _NEAR):
            yield Wish(
                "web_module", module[1].decode(), "", data.count(b"\n", 0, module.start()) + 1, "apache_get_modules()"
            )
        at = lowered.find(ASKS_MODULES, at + 1)


def _sensible(value: str) -> bool:
    return bool(_NUMBER.fullmatch(value)) and quantity(value).number > 0


_STEP: Final = re.compile(r"\A(?:cd|export|umask|ulimit)\s[^&;|]{0,400}(?:&&|;)\s*")
"""A command in front that only prepares the shell: ``cd /srv/plates && convert ...``"""
_GIVEN: Final = re.compile(r"[A-Za-z_]\w*=\S*")
_LEADING: Final = {
    "nice": ("-n",), "ionice": ("-c", "-n"), "sudo": ("-u", "-g"), "timeout": ("-s", "-k"),
    "nohup": (), "time": (), "env": (), "exec": (), "setsid": (),
}  # fmt: skip
"""Commands that start another one, with those of their options behind which something stands."""
_AMOUNT: Final = re.compile(r"-.*|\d+[smh]?")


def _without_what_leads(written: str) -> list[str]:
    """The words of a line for the shell, without what stands in front of the program that it starts."""
    words = _STEP.sub("", written).split()
    while words and (_GIVEN.fullmatch(words[0]) or words[0] in _LEADING):
        with_one = _LEADING.get(words.pop(0), ())
        while words and _AMOUNT.fullmatch(words[0]):
            if words.pop(0) in with_one and words:
                words.pop(0)
    return words


def command_of(written: str, *, whole: bool) -> str:
    """The program that a line for the shell starts, or looks for; empty: one that is everywhere, or none that is sure.

    ``whole``: all of the line is known, and not its beginning alone.
    """
    words = _without_what_leads(written.strip().strip("\"'"))
    if words and words[0] in LOOKING:
        words = [word for word in words[1:] if not word.startswith(("-", ">", "2>", "1>", "&"))][:1]
    if not words:
        return ""
    name = words[0].rsplit("/", 1)[-1].strip("\"'")
    if not _COMMAND.fullmatch(name) or (len(words) == 1 and not whole and not written.endswith(" ")):
        return ""
    return "" if name.lower().removesuffix(".exe") in _EVERYWHERE else name


def directories_named(value: str, *, of_file: bool) -> Iterator[str]:
    """A directory named from the application's root, or with ``./`` from the file's own.

    ``of_file``: the value names a file in it.  ``?/`` at its beginning: from where is not known.
    """
    known, unknown, _ = value.lstrip("?").partition("?")
    path = ("?" if value.startswith("?") else "") + known
    if unknown or of_file:
        path = path.rpartition("/")[0]
    if path.startswith("?") and not path.startswith("?/"):
        return
    plain = path.lstrip("?").rstrip("/")
    if _PATH.fullmatch(plain) and plain.strip("./") and (not plain.startswith("/") or path.startswith("?")):
        yield path.rstrip("/")
