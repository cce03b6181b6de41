"""Two surveys side by side."""

from pathlib import Path

import jsonschema
import msgspec
import pytest

import fundamentum.demo
from fundamentum.check.survey_differences import Difference, compare, compare_for
from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.packages import Installed
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.survey import Site, Survey
from fundamentum.needs.file import load
from fundamentum.report.difference_formats import compare_document
from fundamentum.survey.server_reference import look

DATA = Path(fundamentum.demo.__file__).parent / "data"
ALTAIR, VEGA = (look(str(DATA / f"{name}.survey.json")) for name in ("altair", "vega"))
FPM = next(runtime for runtime in ALTAIR.runtimes if runtime.sapi == "fpm")


def with_runtime(**what: object) -> Survey:
    """altair, with one runtime changed."""
    changed = msgspec.structs.replace(FPM, **what)
    return msgspec.structs.replace(
        ALTAIR, runtimes=tuple(changed if runtime is FPM else runtime for runtime in ALTAIR.runtimes)
    )


def setting(name: str, value: str, origin: Origin) -> dict[str, Setting]:
    return {**FPM.settings, name: Setting(value, origin)}


def with_site(**what: object) -> Survey:
    """altair, with its first site changed."""
    return msgspec.structs.replace(ALTAIR, sites=(msgspec.structs.replace(ALTAIR.sites[0], **what), *ALTAIR.sites[1:]))


SITE = ALTAIR.sites[0]
WAIT = next(limit for limit in SITE.limits if limit.name == "ProxyTimeout")
OTHER_LIMITS = tuple(msgspec.structs.replace(limit, value="7") if limit is WAIT else limit for limit in SITE.limits)


CASES: list[tuple[Survey, set[tuple[str, str, str, str]]]] = [
    (ALTAIR, set()),
    (with_runtime(version="8.2.40"), {(FPM.label, "php", FPM.version or "", "8.2.40")}),
    (with_runtime(extensions=FPM.extensions[1:]), {(FPM.label, f"extension:{FPM.extensions[0].name}", "loaded", "not there")}),
    (with_runtime(settings=setting("memory_limit", "1G", Origin("/x.ini", 3))), {(FPM.label, "setting:memory_limit", "256M", "1G")}),
    (with_runtime(settings=setting("memory_limit", "256M", Origin("/elsewhere.ini", 3))), set()),
    (with_runtime(stale=("/etc/x.ini",)), {(FPM.label, "running", "runs with its configuration", "waits for a restart")}),
    (with_runtime(started=1.0, user="other"), set()),
    (
        msgspec.structs.replace(ALTAIR, runtimes=(*ALTAIR.runtimes, Runtime("8.4", "fpm", "8.4.1", "late"))),
        {("8.4/fpm/late", "runtime", "not there", "there")},
    ),
    (
        msgspec.structs.replace(ALTAIR, installed=(*(ALTAIR.installed or ()), Installed("php8.2-soap", "1"), Installed("cowsay", "2"))),
        {("packages", "package:php8.2-soap", "not there", "1")},
    ),
    (msgspec.structs.replace(ALTAIR, installed=None), set()),
    (
        msgspec.structs.replace(ALTAIR, sites=(*ALTAIR.sites, Site("new.example", "nginx", Origin("/n", 1), runtime=FPM.label))),
        {("sites", "site:new.example", "not there", FPM.label)},
    ),
    (with_site(runtime=None), {("sites", f"site:{SITE.name}", SITE.runtime or "", "not known")}),
    (with_site(limits=OTHER_LIMITS), {(f"site {SITE.name}", "limit:ProxyTimeout", "300", "7")}),
    (with_site(limits=()), set()),
    (with_site(secure=True), {(f"site {SITE.name}", "https", "off", "on")}),
    (with_runtime(manager={"request_slowlog_timeout": Setting("9", BUILT_IN)}), {(FPM.label, "limit:request_slowlog_timeout", "not set", "9")}),
    (with_runtime(manager={"request_slowlog_timeout": Setting("0", BUILT_IN)}), set()),
    (with_runtime(settings=setting("memory_limit", "", Origin("/x.ini", 3))), {(FPM.label, "setting:memory_limit", "256M", "not set")}),
]  # fmt: skip


@pytest.mark.parametrize(("other", "expected"), CASES)
def test_what_differs_for_php_is_said_and_nothing_else(other: Survey, expected: set[tuple[str, str, str, str]]) -> None:
    assert {
        (difference.where, difference.what, difference.first, difference.second)
        for difference in compare(ALTAIR, other)
    } == expected
    assert {
        (difference.where, difference.what, difference.second, difference.first)
        for difference in compare(other, ALTAIR)
    } == expected


def test_runtimes_of_another_branch_are_held_against_each_other_without_their_built_in_defaults() -> None:
    other = with_runtime(branch="8.4", version="8.4.1", settings=setting("zend.odd", "1", BUILT_IN))
    differences = compare(ALTAIR, other)
    assert {difference.where for difference in differences} == {f"{FPM.label} and 8.4/fpm/{FPM.pool}"}
    assert [difference.what for difference in differences] == ["php"]


def test_with_applications_only_what_matters_to_them() -> None:
    needs = load(DATA / "nightlog.needs.toml")
    differences = compare_for([needs], ALTAIR, VEGA)
    assert [difference.what for difference in differences if difference.what.startswith("extension:")] == [
        "extension:dom", "extension:mbstring", "extension:pdo_mysql|pdo_pgsql", "extension:intl",
    ]  # fmt: skip
    assert Difference("nightlog", "extension:dom", "met: active", "unmet: switched-off") in differences
    assert (
        compare_for(
            [needs],
            ALTAIR,
            with_runtime(extensions=(*FPM.extensions, msgspec.structs.replace(FPM.extensions[0], name="soap"))),
        )
        == ()
    )


def test_the_document_fits_the_shipped_schema() -> None:
    schema = msgspec.json.decode((DATA.parents[1] / "schemas/compare.schema.json").read_bytes())
    document = msgspec.to_builtins(compare_document("altair", "vega", compare(ALTAIR, VEGA)))
    jsonschema.validate(document, schema)
    assert document["same"] is False
