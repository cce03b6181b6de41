"""The JSON documents and the schemas that ship with the program."""

import json
from pathlib import Path

import pytest
import write_schemas
from jsonschema import Draft202012Validator

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.plan.planner import plan
from fundamentum.report.checks.json import check_document
from fundamentum.report.escape import as_json
from fundamentum.report.plans.json import plan_document
from fundamentum.survey.observe import survey
from fundamentum.survey.survey_file import written
from tests.small_root import TODAY, needs, small_root

SCHEMAS = Path(__file__).parents[2] / "src/fundamentum/schemas"


def validator(kind: str) -> Draft202012Validator:
    return Draft202012Validator(json.loads((SCHEMAS / f"{kind}.schema.json").read_text()))


@pytest.mark.parametrize("kind", write_schemas.DOCUMENTS)
def test_the_shipped_schema_is_current(kind: str) -> None:
    assert (SCHEMAS / f"{kind}.schema.json").read_text() == write_schemas.schema(kind), "run tools/write_schemas.py"
    Draft202012Validator.check_schema(json.loads(write_schemas.schema(kind)))


def test_what_is_written_fits_the_schema(tmp_path: Path) -> None:
    surveyed = survey(DirectoryHost(small_root(tmp_path), "mizar"))
    wanted = needs("gd | dom", "orrery", settings='[settings.required]\nmemory_limit = ">= 256M"\n')
    checked = json.loads(as_json(check_document([check(wanted, surveyed)], surveyed, today=TODAY)))
    planned = json.loads(as_json(plan_document(plan([wanted], surveyed, today=TODAY))))
    validator("check").validate(checked)
    validator("plan").validate(planned)
    validator("survey").validate(json.loads(written(surveyed)))
    assert [row["need"] for row in checked["applications"][0]["findings"]] == [
        "php",
        "extension:gd|dom",
        "extension:orrery",
        "setting:memory_limit",
    ]
    assert {name: planned["packages"][name] for name in ("install", "remove", "along", "upgrade")} == {
        "install": ["php8.2-gd"],
        "remove": [],
        "along": ["libpicture2"],
        "upgrade": [],
    }
    assert [step["title"].split()[0] for step in planned["steps"]] == ["install", "write", "restart"]
    assert planned["unresolved"][0]["need"] == "extension:orrery"
