"""A plan as a PowerShell script for a Windows server: it shows what it would do, and does it when told so."""

import base64
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Final

from fundamentum.changes.file_operations import EditFile, WriteFile
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.server_operations import RunCommands, TakeUp
from fundamentum.changes.steps import Step
from fundamentum.errors import FundamentumError
from fundamentum.kinds import reason_in_words
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.file_mark import HOST_NAME
from fundamentum.plan.made_plan import Plan
from fundamentum.platforms import platform
from fundamentum.report.escape import clean

_LIBRARY: Final = Path(__file__).with_name("powershell") / "library.ps1"
_MARK: Final = lazy_regex(r"sha256:[0-9a-f]{64}|absent")
"""Marks of files that Windows can make again."""
_HEAD: Final = """\
#requires -Version 4.0
# Without -Yes nothing is changed: it is shown what would be done.  -Undo takes the last run back.
# -Root: the drive or directory that was looked at, as it is called on this machine.
# Ends with 0 when it is done, 1 if a step failed, 2 without the rights, 4 if the machine is not as planned any more.
[CmdletBinding()]
param(
    [switch] $Yes,
    [switch] $Undo,
    [string] $Root = %ROOT%
)
Set-StrictMode -Version 2.0
$ErrorActionPreference = 'Stop'
"""


def as_powershell(plan: Plan) -> str:
    """The script: the plan first, as it is told, behind it what its steps are written in."""
    names = ", ".join(application.name for application in plan.applications)
    runtimes = ", ".join(dict.fromkeys(application.runtime for application in plan.applications))
    body = [line for number, step in enumerate(plan.steps, 1) for line in _step(plan, number, step)]
    left = [
        f"# Not resolved: {clean(need.application)} {clean(need.need)}: {clean(need.why)}" for need in plan.unresolved
    ]
    system = f"{platform(plan.family).system_folder}/"
    whole_drive = any(path.startswith(system) for path in plan.rests_on)
    lines = [
        f"# What {clean(plan.server)} lacks for {clean(names)} on {clean(runtimes)}.",
        *_HEAD.replace("%ROOT%", "$env:SystemDrive" if whole_drive else "''").splitlines(),
        "",
        "function Invoke-Plan {",
        *(f"    {line}" if line else "" for line in [*body, *left] or ["Write-PlanLine 'nothing to do'"]),
        "}",
        "",
        "# The files it was made from, as they were then.",
        *_rests_on(plan),
        f"$PlanName = {word(plan.identity)}",
        "",
        *_LIBRARY.read_text("utf-8").splitlines(),
    ]
    return "\r\n".join(_ascii(line) for line in lines) + "\r\n"


def _rests_on(plan: Plan) -> Iterator[str]:
    """Pairs of a mark and a path, each behind a comma: without it one pair alone would be taken for two facts."""
    yield "$RestsOn = @("
    for path, mark in plan.rests_on.items():
        if _MARK.fullmatch(mark) and path != HOST_NAME:
            yield f"    , @({word(mark)}, {word(_windows(path))})"
    yield ")"


def _step(plan: Plan, number: int, step: Step) -> list[str]:
    whys = []
    for change, reason in plan.why_all(step.changes):
        about = f"{change.about} {change.effect}".strip()
        whys.append(f"#   {clean(about)}: {clean(reason_in_words(reason))}")
    title = f"{number}. {clean(step.operation.title)}"
    return [f"# {title}", *whys, f"Write-PlanLine {word(title)}", *_rendered(step.operation), ""]


def _rendered(operation: Primitive) -> Iterator[str]:
    """An operation in the words of the script's own functions."""
    match operation:
        case EditFile():
            yield f"Edit-PlanFile {word(_windows(operation.path))} {word(_windows(operation.copied_from))} @("
            yield from (f"    , {hunk}" for hunk in _hunks(operation))
            yield ")"
        case WriteFile():
            lines = _array(_bytes(line) for line in operation.content.splitlines())
            yield f"Write-PlanFile {word(_windows(operation.path))} {lines}"
        case RunCommands():
            backs = dict(zip(operation.lines, operation.back, strict=False)) if _paired(operation) else {}
            for words in operation.lines:
                if words[0] == "mkdir":
                    yield f"New-PlanDirectory {word(words[1].removeprefix('C:'))}"
                else:
                    back = backs.get(words, ())
                    yield f"Invoke-PlanCommand {_array(map(word, words))} {_array(map(word, back))}"
        case TakeUp(service, verb):
            yield f"Restart-PlanService {word(verb)} {word(service)}"
        case _:
            raise FundamentumError(f"{operation.title}: how that is done in PowerShell is not known")


def _paired(operation: RunCommands) -> bool:
    """Whether each command has one that takes it back."""
    return len(operation.lines) == len(operation.back)


def _hunks(edit: EditFile) -> Iterator[str]:
    """``@(LINE, 'as it was', @('as it is'))``, from the top of the file on; ``$null``: lines that come behind it."""
    for line, old, new in edit.lines():
        before = "$null" if old is None else _bytes(old.rstrip("\r"))
        yield f"@({line}, {before}, {_array(_bytes(text.rstrip(chr(13))) for text in new)})"


def _array(words: Iterable[str]) -> str:
    return f"@({', '.join(words)})"


def _windows(path: str) -> str:
    return path.replace("/", "\\")


def word(text: str) -> str:
    """The text as one word of PowerShell, in which nothing acts; not all editions read more than ASCII."""
    if text.isascii() and text.isprintable():
        return "'" + text.replace("'", "''") + "'"
    return f"(Get-PlanText '{base64.b64encode(text.encode()).decode()}')"


def _bytes(text: str) -> str:
    """A line of a file as a word."""
    if text.isascii() and text.isprintable():
        return word(text)
    return f"(Get-PlanBytesText '{base64.b64encode(text.encode()).decode()}')"


def _ascii(line: str) -> str:
    """A comment with nothing but ASCII: the code has nothing else anyway."""
    return line if line.isascii() else line.encode("ascii", "backslashreplace").decode()
