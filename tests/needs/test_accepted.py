"""Findings that somebody has decided to live with."""

from datetime import date
from pathlib import Path

import msgspec
import pytest

from fundamentum.changes.packages import Install
from fundamentum.check.judge import check
from fundamentum.errors import InputError
from fundamentum.kinds.extensions import ExtensionNeed
from fundamentum.model.needs import Acceptance
from fundamentum.needs.accepted import load_accepted, unmatched
from fundamentum.needs.file import parse
from fundamentum.plan.planner import plan
from fundamentum.survey.server_reference import look
from tests.small_root import TODAY, small_root

NEEDS = parse(
    'format = 1\n[application]\nname = "nightlog"\n[extensions]\nrequired = ["ctype", "imagick | gd"]\n',
    "nightlog.needs.toml",
)
ENTRY = '[[accepted]]\nneed = "extension:gd"\nreason = "no pictures"\nby = "Ida"\n'


def read(folder: Path, text: str) -> tuple[Acceptance, ...]:
    (folder / "x.accepted.toml").write_text(text)
    return load_accepted(folder / "x.accepted.toml", today=TODAY)


def test_a_file_of_accepted_findings(tmp_path: Path) -> None:
    acceptance, two = read(
        tmp_path, f"format = 1\n{ENTRY}until = 2027-03-01\n\n[[accepted]]\nneed = 'php'\nreason = 'r'\nby = 'b'\n"
    )
    assert (acceptance.need, acceptance.reason, acceptance.by, acceptance.until) == (
        "extension:gd",
        "no pictures",
        "Ida",
        date(2027, 3, 1),
    )
    assert (acceptance.where.rpartition(":")[2], two.where.rpartition(":")[2]) == ("2", "8")
    expired = [load_accepted(tmp_path / "x.accepted.toml", today=date(2027, 3, day))[0].expired for day in (1, 2)]
    assert expired == [False, True]


BROKEN = [
    ("format = 2\n", ":1: format 2"),
    ("format = 1\naccepted = 3\n", ":1: Expected"),
    (f"format = 1\n{ENTRY}{ENTRY}colour = 'red'\n", ":6: unknown key 'colour'; known: need, reason, by, until"),
    ("format = 1\n[[accepted]]\nneed = 'php'\n", ":2: 'reason' is missing"),
    (f"format = 1\n{ENTRY.replace('extension:gd', 'gd')}", ":2: 'gd' names no need"),
    (f"format = 1\n{ENTRY}until = 'soon'\n", ":2: "),
    ("format = \n", ":1:10: not TOML"),
    (
        'format = 1\n[[accepted]]\nneed="php"\nreason="a\\u001b[2J"\nby="x"\n',
        ":2: reason and by have to stand on one line",
    ),
]


@pytest.mark.parametrize(("text", "said"), BROKEN)
def test_mistakes_name_file_and_line(tmp_path: Path, text: str, said: str) -> None:
    with pytest.raises(InputError) as caught:
        read(tmp_path, text)
    assert f"x.accepted.toml{said}" in str(caught.value)


CASES = [  # need, until, verdict of the finding, its remark
    ("extension:gd", None, "accepted", None),
    ("extension:imagick|gd", date(2999, 1, 1), "accepted", None),
    ("extension:gd", date(2020, 1, 1), "unmet", "Ida accepted this until 2020-01-01, which has passed"),
    ("extension:soap", None, "unmet", None),
]


@pytest.mark.parametrize(("need", "until", "verdict", "remark"), CASES)
def test_an_accepted_finding_does_not_fail_the_check_as_long_as_it_holds(
    tmp_path: Path, need: str, until: date | None, verdict: str, remark: str | None
) -> None:
    small_root(tmp_path)
    needs = msgspec.structs.replace(
        NEEDS, accepted=(Acceptance(need, "no pictures", "Ida", until, "x:2", until is not None and until < TODAY),)
    )
    judgement = check(needs, look(str(tmp_path)))
    finding = next(finding for finding in judgement.findings if finding.need == "extension:imagick|gd")
    assert (finding.verdict, finding.remark) == (verdict, remark)
    assert judgement.satisfied == (verdict == "accepted")
    assert bool(plan([needs], look(str(tmp_path)), today=TODAY).of(Install)) == (verdict == "unmet")


def test_what_is_met_anyway_and_what_matches_nothing_is_pointed_out(tmp_path: Path) -> None:
    small_root(tmp_path)
    idle = Acceptance("extension:soap", "r", "b", None, "x:9")
    needs = msgspec.structs.replace(NEEDS, accepted=(Acceptance("extension:ctype", "r", "Ida", None, "x:2"), idle))
    finding = next(
        finding for finding in check(needs, look(str(tmp_path))).findings if finding.need == "extension:ctype"
    )
    assert (finding.verdict, finding.remark) == ("met", "accepted by Ida, and met: x:2 can go")
    assert unmatched([needs]) == (idle,)
    assert (
        unmatched(
            [
                needs,
                msgspec.structs.replace(needs, needs=(*needs.needs, ExtensionNeed(("soap",), "required"))),
            ]
        )
        == ()
    )
