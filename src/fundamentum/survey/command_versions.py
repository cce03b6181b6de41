"""Programs that came with no package, asked for their version: run as nobody, bounded in time and output."""

import os
import pwd
import signal
import subprocess
from contextlib import suppress
from typing import Any, Final

from msgspec.structs import replace

from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.surrounding_facts import Command
from fundamentum.model.survey import Survey

TIMEOUT: Final = 5
MAX_OUTPUT: Final = 4096
MAX_ASKED: Final = 50
OPTIONS: Final = ("--version", "-version", "-V")
_VERSION: Final = lazy_regex(r"(?<![\w.])[vV]?(\d+(?:\.\d+){1,3})")


def with_versions(survey: Survey) -> Survey:
    """The survey of this machine with what such programs say of themselves."""
    asked = 0
    commands = []
    for command in survey.commands:
        if command.path and command.package is None and asked < MAX_ASKED:
            asked += 1
            command = replace(command, version=_asked(command))
        commands.append(command)
    return replace(survey, commands=tuple(commands))


def _asked(command: Command) -> str:
    for option in OPTIONS:
        if match := _VERSION.search(_output([command.path or "", option])):
            return match[1]
    return ""


def _output(words: list[str]) -> str:
    """The beginning of what a program prints; nothing if it does not end in time."""
    rights: dict[str, Any] = {}
    if os.geteuid() == 0:
        try:
            nobody = pwd.getpwnam("nobody")
        except KeyError:
            return ""
        rights = {"user": nobody.pw_uid, "group": nobody.pw_gid, "extra_groups": []}
    try:
        process = subprocess.Popen(
            words,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            cwd="/",
            env={"PATH": "/usr/bin:/bin", "LC_ALL": "C"},
            start_new_session=True,
            **rights,
        )
    except (OSError, ValueError, subprocess.SubprocessError):
        return ""
    try:
        data: bytes = process.communicate(timeout=TIMEOUT)[0]
    except subprocess.TimeoutExpired:
        data = b""
    finally:
        with suppress(OSError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()
    return data[:MAX_OUTPUT].decode("utf-8", "replace")
