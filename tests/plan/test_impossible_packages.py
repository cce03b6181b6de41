"""Packages that the package manager would refuse are left out of a plan, and the others are not."""

from hypothesis import given
from hypothesis import strategies as st

from fundamentum.plan.impossible_packages import without_impossible
from fundamentum.plan.package_dependencies import Resolver
from fundamentum.platforms.offers import Offers

from .test_package_dependencies import offer, server

NAMES = ("a", "b", "c", "d", "e")
DEPENDS = st.lists(st.sampled_from((*NAMES, "nowhere", "a | nowhere", "b (>= 2)")), max_size=3).map(", ".join)
OFFERED = st.dictionaries(st.sampled_from(NAMES), st.tuples(DEPENDS, st.sampled_from(("", "", "c", "e"))), min_size=1)


@given(OFFERED)
def test_what_is_left_can_be_installed_together_and_nothing_else_could_be_beside_it(
    offered: dict[str, tuple[str, str]],
) -> None:
    offers = [offer(name, depends=depends, conflicts=conflicts) for name, (depends, conflicts) in offered.items()]
    survey = server(offers)
    resolver = Resolver(survey, Offers(survey))
    possible = without_impossible(survey, offered, resolver)
    refused = {package.name for package in (possible.offers or () if possible else ()) if package.shut_out}
    kept = [name for name in offered if name not in refused]
    assert resolver.along(kept).missing == []
    assert (possible is None) is not bool(refused)
    for name in refused:
        assert resolver.along([*kept, name]).missing or resolver.along([name]).missing


def test_the_reason_is_told() -> None:
    survey = server([offer("a", depends="nowhere"), offer("b")])
    possible = without_impossible(survey, ["b", "a"], Resolver(survey, Offers(survey)))
    assert possible
    assert {package.name: package.shut_out for package in possible.offers or ()} == {
        "a": "it cannot be installed: a depends on nowhere",
        "b": "",
    }
