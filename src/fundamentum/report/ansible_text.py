"""The text of a playbook: what is this program's own in it, what is data, and how a task is written."""

import re
import zlib
from collections.abc import Sequence
from typing import Any

import yaml

from fundamentum.report.escape import clean


class Ours(str):
    """Text of this program: a template of Ansible's, a word that one of its modules knows, a name made of safe letters.

    Every other text is data, and marked so that Ansible looks for no template in it: neither braces nor a header that
    changes what a template looks like.
    """


class ScriptText(str):
    """A part of the plan's script: data too, and written line by line."""


class Dumper(yaml.SafeDumper):
    """Writes long texts as blocks, and marks all that is not ours."""


def _data(dumper: yaml.SafeDumper, text: str) -> yaml.ScalarNode:
    plain = all(c.isprintable() or c == "\n" for c in text)
    block = plain and "\n" in text and not any(line[:1].isspace() or line != line.rstrip() for line in text.split("\n"))
    return dumper.represent_scalar("!unsafe", text, style="|" if block else None)


def _script_lines(dumper: yaml.SafeDumper, text: ScriptText) -> yaml.ScalarNode:
    return dumper.represent_scalar("!unsafe", str(text), style="|")


def _ours(dumper: yaml.SafeDumper, text: Ours) -> yaml.ScalarNode:
    return dumper.represent_scalar("tag:yaml.org,2002:str", str(text))


Dumper.add_representer(str, _data)
Dumper.add_representer(Ours, _ours)
Dumper.add_representer(ScriptText, _script_lines)


def keyed(value: Any) -> Any:
    if isinstance(value, dict):
        return {Ours(key): keyed(member) for key, member in value.items()}
    return [keyed(member) for member in value] if isinstance(value, list | tuple) else value


def task_of(title: str, module: str, /, **options: Any) -> dict[str, Any]:
    name = title if isinstance(title, Ours) else clean(title)
    return {"name": name, f"ansible.builtin.{module}": options}


def words_of(shape: str, *data: str) -> list[str]:
    """The words of a command: ``{}`` stands for a word that is not ours."""
    given = iter(data)
    return [next(given) if word == "{}" else Ours(word) for word in shape.split()]


def question_of(title: str, name: str, argv: Sequence[str], **options: Any) -> dict[str, Any]:
    """A question to the server, which changes nothing and is asked in a trial run too."""
    asked = task_of(title, "command", argv=list(argv), **options)
    return asked | {"register": Ours(name), "changed_when": False, "failed_when": False, "check_mode": False}


def variable(kind: str, text: str) -> str:
    """The name of a variable: letters, digits and a number that tells it from others."""
    plain = re.sub(r"[^A-Za-z0-9]+", "_", text).strip("_")[:60]
    return f"{kind}_{plain}_{zlib.crc32(text.encode()):08x}"
