"""Surveys of servers that the tests here build, kept in tests/cli/servers for the outputs that are kept word for word.

python -m tests.real.sample_servers
"""

import shutil
import tempfile
from pathlib import Path

from msgspec.structs import replace

from fundamentum.kinds import asked_by
from fundamentum.needs.file import load
from fundamentum.survey.server_reference import look
from fundamentum.survey.survey_file import written

from .rpm_server import make_rpm_server
from .twin import make_twin
from .windows_trees import TREES

FOLDER = Path(__file__).parents[1] / "cli/servers"
WINDOWS = {"iis": "two_branches", "iis-sample": "sample_only", "bundle": "bundle", "pool": "small_handler"}
TAKEN = 1764000000


def keep(name: str, root: Path) -> None:
    """The survey of a root, as if it had been taken on a day that stays the same."""
    asked = asked_by([load(FOLDER / "nightlog.needs.toml")])
    survey = replace(look(str(root), asked=asked), server="mizar", taken=TAKEN)
    (FOLDER / f"{name}.survey.json").write_bytes(written(survey))


def main() -> None:
    """All of them."""
    with tempfile.TemporaryDirectory() as folder:
        for name, tree in WINDOWS.items():
            keep(name, TREES[tree](Path(folder) / name))
        twin = make_twin()
        packages = Path(folder) / "packages"
        packages.mkdir()
        keep("rpm", make_rpm_server(packages, twin).path)
        shutil.rmtree(twin.path)


if __name__ == "__main__":
    main()
