"""Write the JSON Schemas that ship with the program, from the types that read and write the documents."""

import inspect
import json
from pathlib import Path
from typing import Any

import msgspec

from fundamentum.model.survey import Survey
from fundamentum.needs.accepted import AcceptedFile
from fundamentum.needs.tables import needs_file
from fundamentum.report.checks.json import CheckDocument
from fundamentum.report.derive_documents import DeriveDocument, ReleasesDocument
from fundamentum.report.difference_formats import CompareDocument
from fundamentum.report.newest_text import NewestDocument
from fundamentum.report.plans.json import PlanDocument

TARGET = Path(__file__).parents[1] / "src/fundamentum/schemas"
DOCUMENTS: dict[str, type[msgspec.Struct]] = {
    "needs": needs_file(),
    "accepted": AcceptedFile,
    "check": CheckDocument,
    "plan": PlanDocument,
    "survey": Survey,
    "compare": CompareDocument,
    "derive": DeriveDocument,
    "releases": ReleasesDocument,
    "newest": NewestDocument,
}


def schema(kind: str) -> str:
    """One schema as text."""
    found: dict[str, Any] = {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **msgspec.json.schema(DOCUMENTS[kind]),
    }
    if kind == "needs":
        # The settings tables hold text, or a table where a dotted name was written without quotes.
        for level in ("required", "recommended"):
            text_or_table = {"anyOf": [{"type": "string", "minLength": 1}, {"type": "object"}]}
            found["$defs"]["SettingsTable"]["properties"][level]["additionalProperties"] = text_or_table
        found["$defs"]["NeedsFile"]["properties"]["format"]["const"] = 1
    return json.dumps(_with_plain_descriptions(found), indent=2) + "\n"


def _with_plain_descriptions(part: Any) -> Any:
    """The schema with each docstring as it is read: not every version of the library takes its indentation away."""
    if isinstance(part, list):
        return [_with_plain_descriptions(one) for one in part]
    if not isinstance(part, dict):
        return part
    return {
        key: inspect.cleandoc(value)
        if key == "description" and isinstance(value, str)
        else _with_plain_descriptions(value)
        for key, value in part.items()
    }


if __name__ == "__main__":
    for kind in DOCUMENTS:
        (TARGET / f"{kind}.schema.json").write_text(schema(kind))
