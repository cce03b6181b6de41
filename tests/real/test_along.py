"""What comes along with packages, from the indexes alone, is what the real apt would install."""

import random
import re

import pytest
from debian_root import base

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.plan.package_dependencies import Resolver, _provides
from fundamentum.platforms.offers import Offers
from fundamentum.survey.observe import survey

from .carried_out import RELEASES

pytestmark = pytest.mark.real


@pytest.mark.parametrize(("release", "branch"), RELEASES.items())
def test_what_comes_along_is_what_apt_would_install(release: str, branch: str) -> None:
    root = base(release)
    found = survey(DirectoryHost(root.path, "x"))
    offers = Offers(found)
    resolver = Resolver(found, offers)
    source = random.Random(5)
    offered = sorted({one.name for one in found.offers or () if one.name.startswith((f"php{branch}-", "php-"))})
    ways = [f"php{branch}-fpm", f"libapache2-mod-php{branch}", f"php{branch}-cgi"]
    sets = [
        [ways[0], f"php{branch}"],
        [ways[0], "php"],
        [ways[1]],
        [ways[0], f"php{branch}-dev"],
        [ways[0], "php-pear"],
    ]
    sets += [[source.choice(ways), *source.sample(offered, source.randint(1, 6))] for _ in range(6)]
    for wanted in sets:
        for recommended in (False, True):
            option = "--install-recommends" if recommended else "--no-install-recommends"
            said = root.run("apt-get", "-s", "install", option, *wanted, check=False).splitlines()
            theirs = {line.split()[1] for line in said if line.startswith("Inst ")}
            along = resolver.along(wanted, recommended=recommended)
            if not theirs:
                assert along.missing, f"apt refuses {wanted}"
                continue
            assert not along.missing, wanted
            ours = {*along.packages, *wanted} - {name for name in resolver.present if name in wanted}
            # The apt of bullseye also takes PHP's metapackages whose names others that come along provide already.
            given = {name for offer in along.offers.values() for name, _ in _provides(offer.provides)}
            provided = {name for name in theirs - ours if re.fullmatch(rf"php|php{branch}|php-[a-z]+", name)}
            provided &= {*given, "php", f"php{branch}"}
            assert ours <= theirs, wanted
            assert theirs - ours <= (provided if release == "bullseye" else set()), wanted
