"""What could not be read of a server, for a person."""

import sys
from collections.abc import Sequence
from typing import IO, TYPE_CHECKING

from fundamentum.report.escape import clean

if TYPE_CHECKING:
    from fundamentum.model.findings import Judgement
    from fundamentum.model.survey import Survey


def write_remarks(survey: "Survey", judgements: "Sequence[Judgement]" = (), stream: IO[str] = sys.stderr) -> None:
    """What could not be read, on standard error."""
    remarks = [*survey.remarks, *(remark for j in judgements for remark in j.target.runtime.remarks)]
    for remark in dict.fromkeys(remarks):
        stream.write(clean(f"remark: {remark.title}: {remark.why}") + "\n")
