"""What is risky about a runtime, whatever is needed."""

from datetime import date
from typing import Any

import pytest

from fundamentum.check.model import Target
from fundamentum.check.safety import risks
from fundamentum.server.model import Runtime, Setting

TODAY = date(2026, 11, 25)
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
    values = {name: Setting(value, "/etc/php/8.2/fpm/php.ini:7") for name, value in settings.items()}
    runtime = Runtime(**{"branch": "8.2", "sapi": "fpm", "version": "8.2.1", "settings": values, **what})
    found = risks(Target(runtime, "named"), TODAY)
    assert {risk.about for risk in found} == expected
    assert all(risk.why and risk.remedy for risk in found)
    assert risks(Target(runtime, "named", present=False), TODAY) == ()


def test_the_remedy_names_the_file_that_counts() -> None:
    runtime = Runtime(
        "8.2", "fpm", "8.2.1", settings={"display_errors": Setting("On", "/etc/php/8.2/fpm/conf.d/x.ini:2")}
    )
    assert risks(Target(runtime, ""), TODAY)[0].remedy == "set display_errors = Off in /etc/php/8.2/fpm/conf.d/x.ini"
