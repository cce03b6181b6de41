"""What is risky about a runtime, whatever is needed."""

from datetime import date
from typing import Any

import pytest

from fundamentum.check.risks import risks
from fundamentum.model.findings import Judgement, Target
from fundamentum.model.needs import Needs
from fundamentum.model.origin import Origin
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.surrounding_facts import Exposed, Machine
from fundamentum.model.survey import Site, Survey
from fundamentum.model.system import System

TODAY = date(2026, 11, 25)
NOWHERE = Survey(1, "vega", System())
CASES: list[tuple[dict[str, Any], dict[str, str], set[str]]] = [
    ({}, {}, set()),
    ({}, {"display_errors": "1"}, {"setting:display_errors"}),
    ({}, {"display_errors": "stdout"}, {"setting:display_errors"}),
    ({}, {"display_errors": "stderr"}, set()),
    ({}, {"display_errors": ""}, set()),
    ({"sapi": "cli"}, {"display_errors": "1"}, set()),
    ({}, {"allow_url_include": "On"}, {"setting:allow_url_include"}),
    ({}, {"allow_url_include": "0"}, set()),
    ({"branch": "7.4"}, {}, {"php"}),
    ({"branch": "9.9"}, {}, set()),
]


@pytest.mark.parametrize(("what", "settings", "expected"), CASES)
def test_each_risk(what: dict[str, Any], settings: dict[str, str], expected: set[str]) -> None:
    values = {name: Setting(value, Origin("/etc/php/8.2/fpm/php.ini", 7)) for name, value in settings.items()}
    runtime = Runtime(**{"branch": "8.2", "sapi": "fpm", "version": "8.2.1", "settings": values, **what})
    found = risks(NOWHERE, Judgement(Needs("nightlog"), Target(runtime, "named"), ()), TODAY)
    assert {risk.about for risk in found} == expected
    assert all(risk.why and risk.remedy for risk in found)
    assert risks(NOWHERE, Judgement(Needs("nightlog"), Target(runtime, "named", present=False), ()), TODAY) == ()


def test_the_remedy_names_the_file_that_counts() -> None:
    runtime = Runtime(
        "8.2", "fpm", "8.2.1", settings={"display_errors": Setting("On", Origin("/etc/php/8.2/fpm/conf.d/x.ini", 2))}
    )
    assert (
        risks(NOWHERE, Judgement(Needs("nightlog"), Target(runtime, ""), ()), TODAY)[0].remedy
        == "set display_errors = Off in /etc/php/8.2/fpm/conf.d/x.ini"
    )


def test_what_lies_in_the_document_root_of_its_own_sites_counts() -> None:
    runtime = Runtime("8.2", "fpm", "8.2.1", pool="www")
    kinds: tuple[Any, ...] = ("world-writable", "information-page", "installer", "not-for-visitors")
    survey = Survey(
        1,
        "vega",
        System(),
        sites=(Site("nightlog", "nginx", Origin("/etc/nginx/x", 1), root="/srv/nightlog", runtime="8.2/fpm/www"),),
        exposed=(
            *(Exposed(kind, "/srv/nightlog/a b", "/srv/nightlog", 2) for kind in kinds),
            Exposed("installer", "/srv/other/setup", "/srv/other"),
        ),
        machine=Machine(permissive=True),
    )
    found = risks(survey, Judgement(Needs("nightlog"), Target(runtime, ""), ()), TODAY)
    assert [risk.about for risk in found] == [*(kind.replace("-", " ") for kind in kinds), "SELinux"]
    assert "'/srv/nightlog/a b'" in found[0].remedy
    assert found[1].found == "/srv/nightlog/a b and 2 more"
