"""What is said of needs on small servers: the cases are in ``cases.toml``, what comes of them is held as a whole."""

import os
import tomllib
from contextlib import suppress
from pathlib import Path
from typing import Any

import msgspec
import pytest

from fundamentum.check.judge import check
from fundamentum.errors import FundamentumError
from fundamentum.model.survey import Survey
from fundamentum.plan.planner import plan
from tests.around import around_root, look, needs
from tests.small_root import LISTS, NAME, TODAY

CASES: dict[str, dict[str, Any]] = tomllib.loads(Path(__file__).with_name("cases.toml").read_text("utf-8"))


def made_to_say(survey: Survey, said: dict[str, Any]) -> Survey:
    """The survey with other values: way → value, and a list on the way stands for all that is in it."""
    whole = msgspec.to_builtins(survey)
    for way, value in said.items():
        *before, last = way.split(".")
        at = [whole]
        for name in before:
            below = [one[name] for one in at]
            at = [part for one in below for part in (one if isinstance(one, list | tuple) else (one,))]
        for one in at:
            one[last] = value
    return msgspec.convert(whole, Survey, strict=False)


def server(folder: Path, case: dict[str, Any]) -> Path:
    files = dict(case.get("files", {}))
    status = [("php8.2-common", "8.2.9-1"), ("php8.2-fpm", "8.2.9-1"), ("nginx", "1.22.1-9")]
    status += [tuple(case["installed"].split())] if "installed" in case else []
    files["var/lib/dpkg/status"] = "\n".join(
        f"Package: {name}\nStatus: install ok installed\nArchitecture: amd64\nVersion: {version}\n"
        for name, version in status
    )
    files["var/lib/dpkg/status"] += "\n" + case.get("status", "")
    root = around_root(folder, extra=files)
    root.chmod(0o755)
    with (root / LISTS / NAME).open("a") as index:
        index.write(case.get("index", ""))
    for name in case.get("modules", ()):
        module = root / f"usr/lib/php/20220829/{name}.so"
        module.write_bytes((root / "usr/lib/php/20220829/ctype.so").read_bytes())
        ini = root / f"etc/php/8.2/fpm/conf.d/20-{name}.ini"
        if not ini.exists():
            ini.write_text(f"extension={name}.so\n")
    for name, target in case.get("links", {}).items():
        (root / name).symlink_to(target)
    for name, user in case.get("owners", {}).items():
        os.chown(root / name, user, user)
    for name, mode in case.get("modes", {}).items():
        (root / name).chmod(mode)
    return root


@pytest.mark.skipif(os.geteuid() != 0, reason="needs root: some files of these servers are other users'")
@pytest.mark.parametrize("name", CASES)
def test_what_is_said(tmp_path: Path, name: str) -> None:
    case = CASES[name]
    wanted = needs(case["needs"])
    survey = made_to_say(look(server(tmp_path, case), wanted), case.get("said", {}))
    of = case.get("runtime", "8.2/fpm/www")
    judged = check(wanted, survey, of)
    with suppress(FundamentumError):
        plan([wanted], survey, of, today=TODAY)
    assert [finding.need for finding in judged.findings]  # held as a whole: see tests/whole_results.py
