"""What a case tells as a whole, as lines: the survey, and the plan for an application that asks for much.

Kept are the lines of the case without anything, and of each other one what differs from them.
"""

import difflib
import io
import json
import os
import re
import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path
from unittest.mock import patch

import msgspec

from fundamentum.entries import entry
from fundamentum.errors import FundamentumError
from fundamentum.model.needs import Needs
from fundamentum.model.survey import Survey
from fundamentum.needs.file import parse
from fundamentum.plan.planner import plan
from tests.small_root import TODAY

_MOMENTS = re.compile(r'"(taken|modified|fetched|started)": \d+|(?<="sha256:)\w+|(?<="names:)\w+')
"""What is another at each time, and marks of contents: a case has those contents itself."""
WANTED = parse(
    """
format = 1
[application]
name = "nightlog"
[php]
version = ">=8.0"
[extensions]
required = ["ctype"]
[settings.required]
memory_limit = ">= 256M"
file_uploads = "on"
allow_url_fopen = "off"
max_input_vars = ">= 3000"
[uploads]
largest = "80M"
[requests]
longest = "400s"
[web]
front_controller = "front.php"
deny = ["config"]
""",
    "f",
)


def lines_of(found: Survey, site: str, root: Path, wanted: Needs = WANTED) -> list[str]:
    """The survey as its file has it, and the plan for one of its sites."""
    text = json.dumps(json.loads(msgspec.json.encode(msgspec.structs.replace(found, offers=None))), indent=1)
    told = _MOMENTS.sub(lambda found: f'"{found[1]}": 0' if found[1] else "", text).splitlines()
    written = io.StringIO()
    try:
        with patch.dict(os.environ, {"COLUMNS": "200", "NO_COLOR": "1"}):
            made = plan([wanted], found, [site], today=TODAY)
            entry("fundamentum.report.plans", "text").write(written, made, found, full=True)
    except FundamentumError as error:
        written.write(str(error))
    return [line.replace(str(root), "") for line in (*told, *written.getvalue().splitlines())]


def differing(base: Sequence[str], lines: Sequence[str]) -> list[str]:
    """The lines that are not those of the base, with the sign of a difference."""
    shown = difflib.unified_diff(base, lines, n=0, lineterm="")
    return [line for line in shown if not line.startswith(("---", "+++", "@@"))]


def write(path: Path, told: Callable[[str, Path], list[str]], names: dict[str, str]) -> None:
    """Write what each case tells; ``names``: case → the case it is held against."""
    bases: dict[str, list[str]] = {}
    kept: dict[str, list[str]] = {}
    for name, base in names.items():
        for one in (base, name):
            if one not in bases:
                with tempfile.TemporaryDirectory() as folder:
                    bases[one] = told(one, Path(folder))
        kept[name] = bases[name] if name == base else differing(bases[base], bases[name])
    path.write_text(json.dumps(kept, indent=1, ensure_ascii=False) + "\n", "utf-8")
