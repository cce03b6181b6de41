"""What comes along with packages, and what has to go.  tests/real asks apt the same of whole releases."""

from typing import Any

import pytest

from fundamentum.model.packages import Installed, Offer
from fundamentum.model.survey import Survey
from fundamentum.model.system import System
from fundamentum.plan.package_dependencies import Along, Resolver
from fundamentum.plan.unexpected_packages import asides
from fundamentum.platforms.offers import Offers


def offer(name: str, version: str = "1.0", **fields: Any) -> Offer:
    return Offer(name, version, "main", **fields)


def server(offers: list[Offer], installed: tuple[Installed, ...] = ()) -> Survey:
    return Survey(4, "mizar", System(family="debian"), installed=installed, offers=tuple(offers))


def along(offers: list[Offer], *wanted: str, installed: tuple[Installed, ...] = ()) -> Along:
    survey = server(offers, installed)
    return Resolver(survey, Offers(survey)).along(wanted)


OLD = (Installed("old", "1.0"),)
CASES: list[tuple[list[Offer], tuple[Installed, ...], list[str], list[str], list[str]]] = [
    # offers, installed; what comes along with a, what goes, what is missing
    ([offer("a")], (), [], [], []),
    ([offer("a", depends="b, c"), offer("b"), offer("c", depends="d"), offer("d")], (), ["b", "c", "d"], [], []),
    ([offer("a", pre_depends="b"), offer("b")], (), ["b"], [], []),
    ([offer("a", depends="b | c"), offer("c")], (), ["c"], [], []),
    ([offer("a", depends="b | c"), offer("b"), offer("c")], (Installed("c", "1"),), [], [], []),
    ([offer("a", depends="b (>= 2)"), offer("b", "2.1")], (Installed("b", "1"),), ["b"], [], []),
    ([offer("a", depends="b (>= 2)"), offer("b", "1.9")], (), [], [], ["a depends on b"]),
    ([offer("a", depends="v"), offer("x", provides="v")], (), ["x"], [], []),
    ([offer("a", depends="v (= 2)"), offer("x", provides="v (= 2)"), offer("y", provides="v")], (), ["x"], [], []),
    ([offer("a", depends="v"), offer("az", provides="v"), offer("b", provides="v")], (), ["az"], [], []),
    ([offer("a", depends="v")], (Installed("q", "1", provides="v"),), [], [], []),
    ([offer("a", conflicts="old")], OLD, [], ["old"], []),
    ([offer("a", conflicts="old (<< 2)"), offer("old", "2.0")], OLD, ["old"], [], []),
    ([offer("a", conflicts="old (<< 1)")], OLD, [], [], []),
    ([offer("a", conflicts="v")], (Installed("old", "1", provides="v"),), [], ["old"], []),
    ([offer("a", conflicts="old"), offer("w", "1.0", depends="old")], (*OLD, Installed("w", "1.0")), [], ["old", "w"], []),
    ([offer("a", depends="b"), offer("b", conflicts="a")], (), ["b"], [], ["b cannot be installed beside a"]),
    ([offer("a", depends="b, c"), offer("b", provides="c", conflicts="c"), offer("c")], (), ["b"], [], []),
    ([offer("a", depends="b (= 1)"), offer("b", "2"), offer("b", "1", priority=100)], (), [], [],
     ["a depends on b: b 1 of main would do, but is preferred less than the version that does not"]),
    ([offer("a", depends="b (= 2)"), offer("b", "2"), offer("e", "2")],
     (Installed("b", "1"), Installed("e", "1", bound="b (= 1)")), ["b", "e"], [], []),
    ([offer("a", depends="b (= 2)"), offer("b", "2")],
     (Installed("b", "1"), Installed("e", "1", bound="b (= 1)")), ["b"], ["e"], []),
    ([offer("a", depends="b (= 2)"), offer("b", "2"), offer("e", "2")],
     (Installed("b", "1"), Installed("e", "1", bound="b (= 1)", held=True)), ["b"], [],
     ["e is on hold at 1, which does not go with b"]),
    ([offer("a", depends="b (= 2)"), offer("b", "2")],
     (Installed("b", "1"), Installed("e", "1", bound="b (<< 3)")), ["b"], [], []),
    ([offer("a", depends="b (= 2)"), offer("b", "2")], (Installed("b", "1", held=True),), [], [],
     ["a depends on b: b 2 of main would do, but it is held at another version"]),
    ([offer("a", built_from="s 2"), offer("b", "2", built_from="s 2"), offer("c", "3", built_from="s 3")],
     (Installed("apt", "2.6.1"), Installed("b", "1"), Installed("c", "1")), ["b"], [], []),
    ([offer("a", "2"), offer("b", "2.1", built_from="a 2", depends="d"), offer("d")],
     (Installed("apt", "2.5.2"), Installed("b", "1")), ["b", "d"], [], []),
    ([offer("a", "2"), offer("b", "2", built_from="a 2")],
     (Installed("apt", "2.2.4"), Installed("b", "1")), [], [], []),
    ([offer("a", "2"), offer("b", "2", built_from="a 2"), offer("e", "2", built_from="a 2", depends="nowhere")],
     (Installed("apt", "2.6.1"), Installed("b", "1", held=True), Installed("e", "1")), [], [], []),
]  # fmt: skip


@pytest.mark.parametrize(("offers", "installed", "comes", "goes", "missing"), CASES)
def test_along(
    offers: list[Offer], installed: tuple[Installed, ...], comes: list[str], goes: list[str], missing: list[str]
) -> None:
    found = along(offers, "a", installed=installed)
    assert (found.packages, found.removed, found.missing) == (comes, goes, missing)


def test_what_is_only_recommended_does_not_come() -> None:
    assert along([offer("a", recommends="b"), offer("b")], "a").packages == []


def test_what_nobody_would_expect_is_pointed_out() -> None:
    names = ("apache2", "libapache2-mod-php8.2", "gcc", "libx-dev", "libx")
    offers = [offer("a", depends=", ".join(names)), *(offer(name) for name in names)]
    there = (Installed("nginx-light", "1"),)
    survey = server(offers, there)
    said = {
        aside.package: (aside.why, aside.instead)
        for aside in asides(along(offers, "a", installed=there), ["a"], survey)
    }
    instead = "it comes with a: ask for packages that do not depend on it"
    assert said == {
        "apache2": ("a second web server, beside nginx-light", instead),
        "libapache2-mod-php8.2": ("another way of running PHP", instead),
        "gcc": ("a development tool", instead),
        "libx-dev": ("a development tool", instead),
    }
    alone = asides(along(offers, "a"), ["a"], server(offers))
    assert [aside.why for aside in alone if aside.package == "apache2"] == ["a web server that was not asked for"]
