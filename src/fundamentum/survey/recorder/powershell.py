"""The script for PowerShell that records a machine on which nothing may be installed, put together from its parts."""

from typing import Final

from fundamentum import platforms, webservers
from fundamentum.catalog import HARVESTED, facts
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.surrounding_facts import Asked
from fundamentum.survey.recorder import PATH

_DIRECTIVE: Final = lazy_regex(r"[A-Za-z0-9_.]+")
_WIDTH: Final = 118


def script(asked: Asked | None = None) -> str:
    """The script.  Its result is read by :mod:`fundamentum.hosts.recording`."""
    directives = {name for branch in HARVESTED for name in facts(branch).directives if _DIRECTIVE.fullmatch(name)}
    directives |= {"extension", "zend_extension"}
    directories = [path for path in (asked.directories if asked else ()) if PATH.fullmatch(path)]
    marks = {"DIRECTIVES": _lines(sorted(directives)), "DIRECTORIES": _lines(directories), **_of_web_servers()}
    text = next(filter(None, (platforms.text_of(name, "recorder.ps1") for name in platforms.names())))
    for mark, content in marks.items():
        text = text.replace(f"%{mark}%", content)
    return text.replace("\n", "\r\n")


def _of_web_servers() -> dict[str, str]:
    """What the web servers want to be taken along: tables by name, those of one name joined."""
    tables: dict[str, list[str]] = {name: [] for name in ("STEPS", "LINES", "ELEMENTS", "ATTRIBUTES", "PROGRAMS")}
    for server in webservers.names():
        table = ""
        for line in webservers.text_of(server, "recorder_tables.txt").splitlines():
            if line.startswith("["):
                table = line.strip("[]").upper()
            else:
                tables[table].append(line)
    return {name: "\n".join(lines) for name, lines in tables.items()}


def _lines(words: list[str]) -> str:
    """The words on lines that are not too long."""
    lines = [""]
    for word in words:
        if len(lines[-1]) + len(word) > _WIDTH:
            lines.append("")
        lines[-1] = f"{lines[-1]} {word}".strip()
    return "\n".join(lines)
