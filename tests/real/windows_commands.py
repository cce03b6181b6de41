"""A stand-in for the commands of a Windows machine that plans have: it does to a tree what they do to the machine."""

import re
import shutil
import subprocess
from pathlib import Path

from lxml import etree

from fundamentum.changes.file_operations import EditFile, WriteFile
from fundamentum.changes.server_operations import RunCommands
from fundamentum.plan.made_plan import Plan

CONFIG = "Windows/System32/inetsrv/config/applicationHost.config"
ELEMENT = re.compile(r"/([+-])?(\w+)?\.?\[(.*?)\](?:\.(\w+):(.*))?")
OPTION = re.compile(r"/([A-Za-z0-9_.]+):(.*)")


def carry_out(plan: Plan, root: Path) -> None:
    """Every step of a plan; services are left out, as nothing runs."""
    for operation in (step.operation for step in plan.steps):
        if isinstance(operation, EditFile):
            if operation.copied_from:
                shutil.copy(root / operation.copied_from.lstrip("/"), root / operation.path.lstrip("/"))
            command = ["patch", "--binary", str(root / operation.path.lstrip("/"))]
            subprocess.run(command, input=operation.diff.encode(), check=True, capture_output=True)
        elif isinstance(operation, WriteFile):
            (root / operation.path.lstrip("/")).write_text(operation.content)
        elif isinstance(operation, RunCommands):
            for words in operation.lines:
                run(words, root)


def take_back(plan: Plan, root: Path) -> None:
    """The commands that take those of a plan back."""
    for operation in reversed([step.operation for step in plan.steps]):
        for words in reversed(operation.back if isinstance(operation, RunCommands) else ()):
            run(words, root)


def run(words: tuple[str, ...], root: Path) -> None:
    """One command."""
    if words[0] == "mkdir":
        (root / words[1].removeprefix("C:\\").replace("\\", "/")).mkdir()
    elif words[0] == "icacls":
        assert (root / words[1].removeprefix("C:\\").replace("\\", "/")).is_dir()
    else:
        tree = etree.parse(root / CONFIG)
        _changed(tree.getroot(), words)
        tree.write(root / CONFIG)


def _changed(config: etree._Element, words: tuple[str, ...]) -> None:
    if words[0] == "dism.exe":
        for path in ("system.webServer/globalModules", "location/system.webServer/modules"):
            _entry(config.find(path), words[2].startswith("/enable"), {"name": "FastCgiModule"}, "add")
        return
    assert words[0].endswith("appcmd.exe") and words[1] == "set"
    if words[2] == "apppool":
        name, (option, value) = words[3].removeprefix("/apppool.name:"), words[4].lstrip("/").split(":")
        config.find(f"system.applicationHost/applicationPools/add[@name='{name}']").set(option, value)
        return
    site = "" if words[3].startswith("/") else words[3]
    section = next(word for word in words if word.startswith("/section:")).removeprefix("/section:")
    for word in words[4 if site else 3 :]:
        if not word.startswith(("/section:", "/commit:")):
            _in_section(_found(config, site, section), word)


def _found(config: etree._Element, site: str, section: str) -> etree._Element:
    """The element of a section, for a site in a location of its own, made if it is not there."""
    holder = config
    if site:
        found = config.find(f"location[@path='{site}']")
        holder = etree.SubElement(config, "location", path=site) if found is None else found
    for part in section.split("/"):
        inner = holder.find(part)
        holder = etree.SubElement(holder, part) if inner is None else inner
    return holder


VARIABLE = re.compile(r"/([+-])\[(.*?)\]\.environmentVariables\.\[(.*)\]")


def _in_section(holder: etree._Element, word: str) -> None:
    if match := VARIABLE.fullmatch(word):
        (key, value), pairs = (
            re.findall(r"(\w+)='([^']*)'", match[2])[0],
            dict(re.findall(r"(\w+)='([^']*)'", match[3])),
        )
        inside = _found(next(one for one in holder if one.get(key) == value), "", "environmentVariables")
        _entry(inside, match[1] == "+", pairs, "environmentVariable")
        return
    if match := ELEMENT.fullmatch(word):
        pairs = dict(re.findall(r"(\w+)='([^']*)'", match[3]))
        if match[2]:
            inner = holder.find(match[2])
            holder = etree.SubElement(holder, match[2]) if inner is None else inner
        if match[1]:
            _entry(holder, match[1] == "+", pairs, "application" if holder.tag == "fastCgi" else "add")
        else:
            key, value = next(iter(pairs.items()))
            next(one for one in holder if one.get(key) == value).set(match[4], match[5])
        return
    option = OPTION.fullmatch(word)
    assert option, word
    *inside, name = option[1].split(".")
    for part in inside:
        inner = holder.find(part)
        holder = etree.SubElement(holder, part) if inner is None else inner
    holder.set(name, option[2])


def _entry(holder: etree._Element, there: bool, pairs: dict[str, str], tag: str) -> None:
    key, value = next(iter(pairs.items()))
    old = [one for one in holder if one.get(key) == value]
    for one in old:
        holder.remove(one)
    if there:
        assert not old, f"{value} is there already"
        holder.insert(0, holder.makeelement(tag, pairs))
