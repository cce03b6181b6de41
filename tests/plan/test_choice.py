"""Which branch each application gets: the least cost there is, and the reasons that are given."""

import gzip
import itertools
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from fundamentum.changes.directive import SetDirective
from fundamentum.changes.package_source import AddSource
from fundamentum.changes.packages import Install
from fundamentum.changes.pool import AddPool
from fundamentum.errors import InputError
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds.extensions import ExtensionNeed
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs import Needs, PhpNeed
from fundamentum.model.packages import Installed
from fundamentum.model.survey import Survey
from fundamentum.plan.branch_choice import Cost, Outcome, cheapest, conflicting
from fundamentum.plan.made_plan import Plan, Unresolved
from fundamentum.plan.package_dependencies import Resolver
from fundamentum.plan.planner import plan
from fundamentum.plan.unexpected_packages import asides
from fundamentum.platforms.offers import Offers
from fundamentum.survey.added_index import with_index
from fundamentum.survey.observe import survey
from tests.examples import examples
from tests.small_root import INDEX, needs, small_root

TODAY = date(2026, 11, 24)
NEWER = (
    INDEX.replace("8.2", "8.4")
    .replace("20220829", "20240924")
    .replace("Package: php8.4-imap\n", "Package: php8.4-old\n")
)
costs = st.tuples(*[st.integers(0, 3)] * 4)


@settings(max_examples=examples(300))
@given(st.data())
def test_no_other_choice_is_cheaper(data: st.DataObject) -> None:
    branches = data.draw(st.integers(1, 4))
    own: list[list[Cost]] = data.draw(
        st.lists(st.lists(costs, min_size=branches, max_size=branches), min_size=1, max_size=4)
    )
    fixed: list[Cost] = data.draw(st.lists(costs, min_size=branches, max_size=branches))

    def total(chosen: tuple[int, ...]) -> Cost:
        parts = [row[at] for row, at in zip(own, chosen, strict=True)] + [fixed[at] for at in set(chosen)]
        return tuple(map(sum, zip(*parts, strict=True)))

    best = min(map(total, itertools.product(range(branches), repeat=len(own))))
    assert total(tuple(cheapest(own, fixed))) == best


@given(st.lists(st.lists(st.sets(st.sampled_from("abcd"), max_size=3), min_size=3, max_size=3), min_size=1, max_size=3))
def test_a_conflict_is_as_small_as_can_be(lacking: list[list[set[str]]]) -> None:
    outcomes = [
        [Outcome(tuple(Unresolved(NeedId(n), "", "x", "required") for n in sorted(one))) for one in row]
        for row in lacking
    ]
    found = conflicting(outcomes)
    failing = [{(at, n) for at, row in enumerate(lacking) for n in row[branch]} for branch in range(3)]
    if not all(failing):
        assert found == ()
        return
    assert all(set(found) & one for one in failing)
    universe = set().union(*failing)
    for smaller in itertools.combinations(sorted(universe), len(found) - 1):
        assert not all(set(smaller) & one for one in failing)


def server(folder: Path, modules: tuple[str, ...] = ("ctype", "pdo")) -> Survey:
    """8.2 installed, and 8.4 on offer beside it."""
    return survey(DirectoryHost(small_root(folder, modules, index=INDEX + "\n" + NEWER), "mizar"))


def named(name: str, wanted: Needs) -> Needs:
    return replace(wanted, name=name)


def all_but_a_site(made: Plan) -> bool:
    """Whether everything is met, but that nothing hands requests to a PHP that is new."""
    words = ("no web server hands anything to", "where no PHP is seen")
    return all(any(word in unresolved.why for word in words) for unresolved in made.unresolved)


CASES = [  # needs, the branch taken, words against the other one
    (needs("gd"), "8.2", "what is installed is good enough"),
    (
        replace(needs("gd"), needs=(PhpNeed(preferred="8.4"), *needs("gd").of(ExtensionNeed))),
        "8.2",
        "what is installed is good enough",
    ),
    (needs("gd", php=">=8.3"), "8.4", "accepts only other versions"),
    (needs("gd", "star", php="<8.4"), "8.2", "accepts only other versions"),
]


@pytest.mark.parametrize(("wanted", "branch", "words"), CASES)
def test_the_branch_and_what_decided_against_the_other(tmp_path: Path, wanted: Needs, branch: str, words: str) -> None:
    made = plan([wanted], server(tmp_path), today=TODAY)
    assert made.after[0].target.runtime.branch == branch
    assert made.decision
    rows = {row.name: row for row in made.decision.rows}
    assert set(rows) == {"8.2", "8.4"}
    assert rows[branch].chosen_for == ("nightlog",)
    assert words in next(row.reason for name, row in rows.items() if name != branch)
    assert all_but_a_site(made), made.unresolved


def test_a_branch_nobody_fixes_gives_way(tmp_path: Path) -> None:
    later = date(2027, 6, 1)  # 8.2 is no longer fixed by the PHP project, and no distribution says it goes on
    made = plan([needs("gd")], server(tmp_path), today=later)
    assert made.after[0].target.runtime.branch == "8.4"
    assert made.decision
    assert "nobody fixes its security problems since 2026-12-31" in made.decision.rows[0].reason


def test_two_that_cannot_share_get_two_branches_and_are_told_why(tmp_path: Path) -> None:
    made = plan(
        [named("platevault", needs("gd", php="<8.3")), named("domekeeper", needs("gd", php=">=8.3"))],
        server(tmp_path),
        today=TODAY,
    )
    assert [judgement.target.runtime.branch for judgement in made.after] == ["8.2", "8.4"]
    assert made.decision
    assert set(made.decision.conflict) == {"platevault accepts PHP <8.3", "domekeeper accepts PHP >=8.3"}
    assert all_but_a_site(made), made.unresolved


def test_one_branch_for_all_where_one_serves_all(tmp_path: Path) -> None:
    made = plan(
        [named("platevault", needs("gd")), named("domekeeper", needs("gd", php=">=8.3"))], server(tmp_path), today=TODAY
    )
    assert {judgement.target.runtime.branch for judgement in made.after} == {"8.4"}
    assert made.decision
    assert made.decision.conflict == ()


@pytest.mark.parametrize(
    ("one", "two", "apart"),
    [
        ('memory_limit = ">= 256M"', 'memory_limit = ">= 512M"', False),
        ('memory_limit = ">= 64M"', 'memory_limit = ">= 1G"', True),
        ('memory_limit = "<= 128M"', 'memory_limit = ">= 256M"', True),
        ('"session.auto_start" = "on"', '"session.auto_start" = "off"', True),
        ('max_file_uploads = ">= 8"', 'max_file_uploads = ">= 800"', False),
    ],
)
def test_limits_that_do_not_go_together_get_pools_of_their_own(tmp_path: Path, one: str, two: str, apart: bool) -> None:
    wanted = [
        named(name, needs(settings=f"[settings.required]\n{text}\n"))
        for name, text in (("nightlog", one), ("platevault", two))
    ]
    made = plan(wanted, survey(DirectoryHost(small_root(tmp_path), "mizar")), today=TODAY)
    assert all_but_a_site(made), made.unresolved
    assert bool(made.of(AddPool)) is apart
    assert len({judgement.target.runtime.label for judgement in made.after}) == 1 + apart
    if apart:
        assert made.decision
        assert made.decision.apart
        assert made.of(AddPool)[0].file in {file.path for file in made.files}


def test_pools_of_their_own_also_where_php_is_yet_to_be_installed(tmp_path: Path) -> None:
    root = small_root(tmp_path)
    (root / "usr/sbin/php-fpm8.2").unlink()
    texts = ('memory_limit = "<= 64M"', 'memory_limit = ">= 256M"')
    wanted = [named(f"app{at}", needs(settings=f"[settings.required]\n{text}\n")) for at, text in enumerate(texts)]
    made = plan(wanted, survey(DirectoryHost(root, "mizar")), today=TODAY)
    assert all_but_a_site(made), made.unresolved
    assert [install.package for install in made.of(Install)] == ["php8.2-fpm"]
    assert len(made.of(AddPool)) == 1
    assert {(directive.runtime, directive.after) for directive in made.of(SetDirective)} == {
        ("8.2/fpm/www", "64M"),
        ("8.2/fpm/app1", "256M"),
    }


def test_a_choice_that_is_taken_away_shows_what_it_costs(tmp_path: Path) -> None:
    made = plan([needs("gd", "imap", php=">=8.2")], server(tmp_path), "8.4", today=TODAY)
    assert made.after[0].target.runtime.branch == "8.4"
    assert made.decision
    rows = {row.name: row for row in made.decision.rows}
    assert rows["8.4"].chosen_for == ("nightlog",)
    assert rows["8.4"].reason.startswith("named with --runtime")
    kept = plan([needs("gd")], server(tmp_path), "8.4", today=TODAY).decision
    assert kept
    reasons = {row.name: row.reason for row in kept.rows}
    assert reasons["8.4"] == "named with --runtime, although not installed, and what is installed is good enough"
    assert reasons["8.2"] == "would have been taken for nightlog"


def test_what_nobody_would_expect_is_pointed_out(tmp_path: Path) -> None:
    more = """
Package: php8.2
Version: 8.2.9-1
Architecture: amd64
Depends: libapache2-mod-php8.2

Package: libapache2-mod-php8.2
Version: 8.2.9-1
Architecture: amd64
Depends: apache2, php-dev-tools-dev

Package: apache2
Version: 2.4
Architecture: amd64

Package: php-dev-tools-dev
Version: 1
Architecture: all
"""
    surveyed = survey(DirectoryHost(small_root(tmp_path, index=INDEX + more), "mizar"))
    surveyed = replace(surveyed, installed=(*(surveyed.installed or ()), Installed("nginx-light", "1.22")))
    along = Resolver(surveyed, Offers(surveyed)).along(["php8.2"])
    said = {aside.package: aside.why for aside in asides(along, ["php8.2"], surveyed)}
    assert said == {
        "apache2": "a second web server, beside nginx-light",
        "libapache2-mod-php8.2": "another way of running PHP",
        "php-dev-tools-dev": "a development tool",
    }


def test_indexes_that_are_not_configured(tmp_path: Path) -> None:
    surveyed = survey(DirectoryHost(small_root(tmp_path / "root"), "mizar"))
    mirror = tmp_path / "mirror/dists/trixie"
    (mirror / "main/binary-amd64").mkdir(parents=True)
    (mirror / "InRelease").write_text("Origin: Observatory\nLabel: Observatory\nCodename: trixie\n")
    (mirror / "main/binary-amd64/Packages.gz").write_bytes(gzip.compress(NEWER.encode()))
    wanted = [needs("gd", php=">=8.3")]
    assert not plan(wanted, surveyed, today=TODAY).complete
    for word in (tmp_path / "mirror", mirror / "main/binary-amd64/Packages.gz"):
        more, names = with_index(surveyed, str(word))
        assert names == ["Observatory trixie/main"]
        made = plan(wanted, more, today=TODAY, added=names)
        assert all_but_a_site(made), made.unresolved
        assert [source.source for source in made.of(AddSource)] == ["Observatory trixie/main"]
        assert made.steps[0].operation.title == "decide: add the package source Observatory trixie/main"
    for word, words in (
        (tmp_path / "nowhere", "no such file"),
        (tmp_path / "root/etc/hostname", "no package index"),
        (tmp_path / "root/etc", "holds no package"),
    ):
        with pytest.raises(InputError, match=words):
            with_index(surveyed, str(word))


@pytest.mark.parametrize(
    ("preferred", "others"),
    [(None, []), ("8.2", ["8.1", "8.3", "8.10"]), ("8.2+", ["8.1"]), ("8.10+", ["8.1", "8.2", "8.3"])],
)
def test_which_branches_are_as_good_as_the_one_that_is_preferred(preferred: str | None, others: list[str]) -> None:
    wanted = replace(needs("gd"), needs=(PhpNeed(preferred=preferred),))
    assert [one for one in ("8.1", "8.2", "8.3", "8.10") if wanted.would_rather_have_another(one)] == others
