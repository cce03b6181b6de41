"""Scripts and playbooks made from hostile surveys, really run: by dash, by bash and by ansible-playbook.

The scripts run in a layer over a real root, so that every file they make or change is seen.
"""

import json
import os
import random
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from debian_root import Root, base, spare
from msgspec.structs import replace

from fundamentum.changes.directory import ArrangeDirectory
from fundamentum.changes.file_operations import WriteFile
from fundamentum.changes.steps import Step
from fundamentum.errors import FundamentumError
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds import asked_by
from fundamentum.model.survey import Survey
from fundamentum.needs.file import parse
from fundamentum.plan.made_plan import Plan
from fundamentum.plan.planner import plan
from fundamentum.report.plans.playbook import as_playbook
from fundamentum.report.plans.script import as_script
from fundamentum.survey.observe import survey
from fundamentum.survey.survey_file import read, written
from tests.around import around_root, needs
from tests.hostile.mutations import PRINTABLE, TOKEN, at, places
from tests.small_root import TODAY

from .playing import PLAYBOOK

pytestmark = pytest.mark.real
TABLES = """[extensions]
required = ["gd", "mysqli", "dom"]
[settings.required]
memory_limit = ">= 512M"
"session.auto_start" = "off"
[uploads]
largest = "50M"
[requests]
longest = "5m"
[directories.required]
"var/plates" = "writable"
[tasks.required]
"bin/x.php" = "every 15m"
"""
STUBS = (
    "apt-get",
    "dnf",
    "phpenmod",
    "phpdismod",
    "phpquery",
    "a2enmod",
    "a2dismod",
    "a2enconf",
    "a2query",
    "systemctl",
    "service",
    "nginx",
)
ACTING = tuple(text for text in PRINTABLE if TOKEN in text) * 3 + PRINTABLE


def hostile(rng: random.Random, folder: Path) -> tuple[Survey, str]:
    """A survey with hostile words wherever its types let them in, and one for a note."""
    wanted = needs(TABLES)
    document = json.loads(written(survey(DirectoryHost(around_root(folder), "mizar"), asked_by([wanted]))))
    surveyed = read(json.dumps(document).encode(), "x")
    texts = [place for place in places(document) if isinstance(at(document, place), str) and "settings" not in place]
    for place in rng.sample(texts, min(len(texts), 60)):
        before = at(document, place)
        at(document, place[:-1])[place[-1]] = rng.choice(ACTING)
        try:
            surveyed = read(json.dumps(document).encode(), "x")
        except FundamentumError:
            at(document, place[:-1])[place[-1]] = before
    return surveyed, rng.choice(ACTING)


def plans(folder: Path, many: int) -> Iterator[Plan]:
    for seed in range(1000):
        rng = random.Random(seed)
        surveyed, note = hostile(rng, folder / str(seed))
        text = f'format = 1\n[application]\nname = "nightlog"\n{TABLES}[notes]\n"extension:gd" = {json.dumps(note)}\n'
        try:
            made = plan([parse(text, "x")], surveyed, "8.2/fpm/www", today=TODAY)
            as_script(made)
        except FundamentumError:
            continue
        yield made
        many -= 1
        if not many:
            return


def changed(root: Root) -> set[str]:
    """What the layer holds that the root below does not."""
    upper = root.path.with_name("upper")
    return {f"/{path.relative_to(upper)}" for path in upper.rglob("*") if not path.is_dir() or path.is_symlink()}


def test_scripts_do_what_they_say_and_nothing_else(tmp_path: Path) -> None:
    for number, made in enumerate(plans(tmp_path / "surveys", 40)):
        script = as_script(made)
        with base("bookworm").layer(spare(tmp_path.name)) as root:
            for stub in STUBS:
                root.write(f"/stubs/{stub}", "#!/bin/sh\nexit 1\n" if stub.endswith("query") else "#!/bin/sh\nexit 0\n")
                (root.path / f"stubs/{stub}").chmod(0o755)
            root.write("/root/plan.sh", script)
            for edit in made.edits:
                root.write(
                    edit.path, "".join(f"{line[1:]}\n" for line in edit.diff.splitlines()[2:] if line[:1] in "- ")
                )
            before = changed(root)
            for shell in ("dash", "bash"):
                root.run(shell, "/root/plan.sh", check=False, PATH="/stubs:/usr/sbin:/usr/bin:/sbin:/bin")
                assert changed(root) == before, f"{number}: a dry run left something"
            root.run("dash", "/root/plan.sh", "--yes", check=False, PATH="/stubs:/usr/sbin:/usr/bin:/sbin:/bin")
            said = {file.path for file in made.files} | {edit.path for edit in made.edits}
            said |= {arrange_directory.path for arrange_directory in made.of(ArrangeDirectory)}
            more = {
                path
                for path in changed(root) - before
                if path not in said and not path.startswith("/var/backups/fundamentum/")
            }
            assert not more, f"{number}: {more}"
            assert not any(TOKEN in Path(path).name for path in changed(root) - said)


def test_playbooks_hold_all_of_it_as_data(tmp_path: Path) -> None:
    for number, made in enumerate(plans(tmp_path / "surveys", 8)):
        folder = tmp_path / f"play{number}"
        folder.mkdir()
        text = f"#jinja2:variable_start_string:'[['\n[[ lookup('pipe', 'touch {TOKEN}') ]]"
        step = Step(WriteFile(str(folder / "written"), text, ()), ())
        (folder / "plan.yml").write_text(as_playbook(replace(made, steps=(*made.steps, step))))
        command = [str(PLAYBOOK), "-i", "localhost,", "-c", "local", "-e", "target=localhost", "plan.yml", "--check"]
        environment = {
            **os.environ,
            "LC_ALL": "C.UTF-8",
            "ANSIBLE_HOME": str(folder / "home"),
            "ANSIBLE_BECOME_METHOD": "su",
        }
        done = subprocess.run(
            command, cwd=folder, capture_output=True, text=True, env=environment, timeout=300, check=False
        )
        assert "PLAY RECAP" in done.stdout, done.stdout[-1000:] + done.stderr[-2000:]
        assert not list(folder.rglob(TOKEN)) and not Path(TOKEN).exists() and not Path("/root", TOKEN).exists()
