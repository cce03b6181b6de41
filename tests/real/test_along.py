"""What comes along with packages, from the indexes alone, is what the real apt would install."""

import random
import re
import subprocess

import pytest
from debian_root import STORE, Root, base, spare, two_releases
from small_index import cut_down

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.plan.package_dependencies import Resolver
from fundamentum.plan.package_relations import provides
from fundamentum.platforms.offers import Offers
from fundamentum.survey.observe import survey

from .carried_out import RELEASES

pytestmark = pytest.mark.real


@pytest.mark.parametrize(("release", "branch"), RELEASES.items())
def test_what_comes_along_is_what_apt_would_install(release: str, branch: str) -> None:
    with base(release).layer(spare(f"along-{release}")) as root:
        if release != "bookworm":  # one with the whole index
            cut_down(root.path)
        _agree(root, release, branch)


def _agree(root: Root, release: str, branch: str) -> None:
    surveyed = survey(DirectoryHost(root.path, "x"))
    offers = Offers(surveyed)
    resolver = Resolver(surveyed, offers)
    source = random.Random(5)
    offered = sorted(
        {offer.name for offer in surveyed.offers or () if offer.name.startswith((f"php{branch}-", "php-"))}
    )
    ways = [f"php{branch}-fpm", f"libapache2-mod-php{branch}", f"php{branch}-cgi"]
    sets = [
        [ways[0], f"php{branch}"],
        [ways[0], "php"],
        [ways[1]],
        [ways[0], f"php{branch}-dev"],
        [ways[0], "php-pear"],
    ]
    sets += [[source.choice(ways), *source.sample(offered, source.randint(1, 6))] for _ in range(6)]
    there = {offer.name for offer in surveyed.offers or ()}
    sets = [names for names in sets if there.issuperset(names)]  # php-pear only where something else asks for it
    assert len(sets) > 8
    for wanted in sets:
        said = root.run("apt-get", "-s", "install", "--no-install-recommends", *wanted, check=False).splitlines()
        theirs = {line.split()[1] for line in said if line.startswith("Inst ")}
        along = resolver.along(wanted)
        if not theirs:
            assert along.missing, f"apt refuses {wanted}"
            continue
        assert not along.missing, wanted
        ours = {*along.packages, *wanted} - {name for name in resolver.present if name in wanted}
        # The apt of bullseye also takes PHP's metapackages whose names others that come along provide already.
        given = {name for offer in along.offers.values() for name, _ in provides(offer.provides)}
        provided = {name for name in theirs - ours if re.fullmatch(rf"php|php{branch}|php-[a-z]+", name)}
        provided &= {*given, "php", f"php{branch}"}
        assert ours <= theirs, wanted
        assert theirs - ours <= (provided if release == "bullseye" else set()), wanted


PREFERRED = ("", "Package: *\nPin: release n=trixie\nPin-Priority: 100\n")
"""What stands in apt's preferences: nothing; the newer release only where it is needed."""


def test_of_two_releases_what_is_upgraded_along_is_what_apt_would_upgrade() -> None:
    root = two_releases("bookworm", "trixie", STORE / "test-along")
    cut_down(root.path)
    source = random.Random(7)
    try:
        for preferences in PREFERRED:
            root.write("/etc/apt/preferences.d/newer", preferences)
            surveyed = survey(DirectoryHost(root.path, "x"))
            resolver = Resolver(surveyed, Offers(surveyed))
            for branch in ("8.2", "8.4"):
                offered = sorted(
                    {offer.name for offer in surveyed.offers or () if offer.name.startswith(f"php{branch}-")}
                )
                for _ in range(8):
                    wanted = [f"php{branch}-fpm", *source.sample(offered, source.randint(1, 6))]
                    said = root.run("apt-get", "-s", "install", "--no-install-recommends", *wanted, check=False)
                    theirs = re.findall(r"^Inst (\S+) (?:\[\S+\] )?\((\S+) ", said, re.M)
                    along = resolver.along(wanted)
                    if not theirs:
                        assert along.missing, f"apt refuses {wanted}"
                        continue
                    new = {name: offer.version for name, offer in along.offers.items()}
                    assert {(n, v) for n, v in new.items() if resolver.present.get(n) != v} == set(theirs), wanted
                    assert set(along.removed) == set(re.findall(r"^Remv (\S+)", said, re.M)), wanted
    finally:
        subprocess.run(["rm", "-rf", str(root.path)], check=True)
