"""What a directory needs where rights are given to names, as on Windows: every answer, and the command that mends it."""

from typing import Literal

import pytest

from fundamentum.kinds.directories.named_rights import judged_by_name
from fundamentum.kinds.directories.need import DirectoryNeed
from fundamentum.model.findings import Finding, Target
from fundamentum.model.origin import Origin
from fundamentum.model.php import Runtime
from fundamentum.model.surrounding_facts import Access, Place
from fundamentum.model.survey import Site, Survey
from fundamentum.model.system import System

WHO = "IIS AppPool\\plates"
ROOT = "/Sites/plates/public"
SITE = Site("plates", "iis", Origin("x", 1), root=ROOT, runtime="8.3/cgi", identity=WHO)
SURVEY = Survey(4, "vega", System("windows", "windows", "Windows"), sites=(SITE,))
TARGET = Target(Runtime("8.3", "cgi", "8.3.4"), "named")
MINE, ALL = Access(WHO, "S-1-5-82-1", 6), Access("Everyone", "S-1-1-0", 6)
READS = Access("BUILTIN\\Users", "S-1-5-32-545", 5)
REFUSED = Access(WHO, "S-1-5-82-1", 2, denied=True)
GRANT = 'icacls C:\\Data /grant "IIS AppPool\\plates:(OI)(CI)M"'


def judged(need: str, kind: str, access: tuple[Access, ...] | None, path: str = "/Data") -> Finding:
    wanted = DirectoryNeed(path, "required", "writable" if "writable" in need else "read-only" if "read" in need else "there",
                           "outside" in need)  # fmt: skip
    chosen: Literal["directory", "file", "absent"] = (
        "file" if kind == "file" else "absent" if kind == "absent" else "directory"
    )
    base = Finding(wanted.key, "required", "unknown")
    return judged_by_name(wanted, Place(path, chosen, access=access), SURVEY, TARGET, base)


@pytest.mark.parametrize(
    ("need", "kind", "access", "verdict", "found", "remedy"),
    [
        ("there", "directory", None, "met", "there", None),
        ("there", "file", None, "unmet", "a file", "move the file /Data away: a directory has to be there"),
        ("writable", "absent", None, "unmet", "not there", "mkdir"),
        ("writable", "directory", (MINE,), "met", f"{WHO} may write", None),
        ("writable", "directory", (ALL,), "met", f"{WHO} may write", None),
        ("writable", "directory", (READS,), "unmet", f"{WHO} may read", GRANT),
        ("writable", "directory", (ALL, REFUSED), "unmet", f"{WHO} may read", GRANT),
        ("writable", "directory", (), "unmet", f"{WHO} may not read", GRANT),
        ("writable", "directory", None, "unknown", "there; rights are not known", "may write there; if not: icacls"),
        ("read-only", "directory", None, "unknown", "there; rights are not known", "may read, and not write, there"),
        ("read-only", "directory", (READS,), "met", f"{WHO} may read", None),
        ("read-only", "directory", (MINE,), "unmet", f"{WHO} may write", "take the right to write away from"),
    ],
)  # fmt: skip
def test_a_directory(
    need: str, kind: str, access: tuple[Access, ...] | None, verdict: str, found: str, remedy: str | None
) -> None:
    finding = judged(need, kind, access)
    assert (finding.verdict, finding.found) == (verdict, found)
    assert remedy in (finding.remedy or "") if remedy else finding.remedy is None
    assert bool(finding.demands) == (verdict == "unmet" and need == "writable")
    assert (finding.remark is not None) == (verdict == "met" and access == (ALL,))


@pytest.mark.parametrize(("kind", "found"), [("directory", "within"), ("absent", "not there, and within")])
def test_what_may_not_be_handed_out_and_is(kind: str, found: str) -> None:
    finding = judged("writable, outside", kind, (MINE,), f"{ROOT}/data")
    assert (finding.verdict, finding.found) == ("unmet", f"{found} the document root {ROOT}")
    assert (finding.remedy or "").startswith(f"keep it out of {ROOT}: move it")
    assert judged("writable, outside", "directory", (MINE,)).verdict == "met"


def test_as_whom_php_works_is_not_known() -> None:
    other = Survey(4, "vega", System("windows", "windows", "Windows"))
    wanted = DirectoryNeed("/Data", "required", "writable")
    finding = judged_by_name(
        wanted, Place("/Data", "directory"), other, TARGET, Finding(wanted.key, "required", "unknown")
    )
    assert finding.verdict == "unknown" and "8.3/cgi works is not known" in (finding.remedy or "")
