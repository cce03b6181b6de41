"""A plan read back from its JSON."""

from pathlib import Path
from typing import Any, Final

import msgspec

from fundamentum.errors import InputError
from fundamentum.plan.made_plan import Plan
from fundamentum.plan.plan_file import from_document
from fundamentum.report.plans.json import FORMAT, plan_document
from fundamentum.untrusted.files import read_named

MAX_PLAN: Final = 32 * 1024 * 1024
"""Bytes; a plan for a large server has a hundredth of that."""


def load_plan(path: Path) -> Plan:
    """The plan in a file.

    What a person reads in it, and perhaps signed, has to be what is carried out: where the two differ, because one of
    them was changed by hand, it is refused.
    """
    where = str(path)
    try:
        document = msgspec.json.decode(read_named(path, MAX_PLAN, "a plan"))
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise InputError(where, f"is no JSON: {error}") from error
    if not isinstance(document, dict) or not isinstance(document.get("whole"), dict):
        raise InputError(where, "is no plan; write one with: fundamentum plan APP --server REF -o NAME.plan.json")
    if document.get("format") != FORMAT:
        raise InputError(where, f"has format {document.get('format')!r}; this program reads {FORMAT}: plan again")
    plan = from_document(document["whole"], where)
    told: dict[str, Any] = msgspec.json.decode(msgspec.json.encode(plan_document(plan), enc_hook=str))
    other = [name for name in told.keys() | document.keys() if told.get(name) != document.get(name)]
    if other:
        what = ", ".join(sorted(other))
        raise InputError(where, f"was changed since it was written, or by another version: {what} differ; plan again")
    return plan
