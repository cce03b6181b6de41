"""How long choosing among branches takes, as applications and branches become more.

    python benchmarks/choosing.py

The server is made up: so many branches, each with forty packages, and applications that want ten extensions each.
"""

import random
import time
from datetime import date

from fundamentum.kinds.extensions import ExtensionNeed
from fundamentum.kinds.settings.setting_verdict import SettingNeed
from fundamentum.model.conditions import condition
from fundamentum.model.constraints import version_range
from fundamentum.model.needs import Needs, PhpNeed
from fundamentum.model.packages import Installed, Offer, Repository
from fundamentum.model.survey import Survey
from fundamentum.model.system import System
from fundamentum.plan.planner import plan

BRANCHES = ("7.4", "8.0", "8.1", "8.2", "8.3", "8.4")
EXTENSIONS = [
    "bcmath",
    "bz2",
    "curl",
    "dba",
    "enchant",
    "gd",
    "gmp",
    "imap",
    "intl",
    "ldap",
    "mbstring",
    "odbc",
    "soap",
    "snmp",
    "sqlite3",
    "tidy",
    "xsl",
    "zip",
    "pgsql",
    "pspell",
    "interbase",
    "sybase",
    "xml",
    "readline",
]


def server(branches: int) -> Survey:
    """Nothing installed, everything on offer."""
    offers = []
    for branch in BRANCHES[:branches]:
        for name in ("fpm", "common", *EXTENSIONS):
            provides = "" if name in ("fpm", "common") else f"php-{name}"
            depends = "" if name == "common" else f"php{branch}-common"
            offers.append(Offer(f"php{branch}-{name}", f"{branch}.1", "Observatory main", "amd64", provides, depends))
    installed = (Installed("dpkg", "1.21"),)
    system = System("debian", "debian", architecture="amd64")
    return Survey(
        1, "mizar", system, installed=installed, offers=tuple(offers), repositories=(Repository("Observatory main"),)
    )


def application(number: int) -> Needs:
    """Ten extensions, a few limits, and a range of versions."""
    source = random.Random(number)
    low = source.choice(("7.4", "8.0", "8.1"))
    extensions = tuple(ExtensionNeed((name,), "required") for name in source.sample(EXTENSIONS, 10))
    settings = tuple(
        SettingNeed(name, condition(name, f">= {source.randint(1, 64)}M"), "required")
        for name in ("memory_limit", "post_max_size", "upload_max_filesize")
    )
    wanted = version_range(f">={low}, <8.{source.choice((2, 3, 4, 9))}")
    return Needs(f"application{number}", needs=(PhpNeed(wanted), *extensions, *settings))


def main() -> None:
    for branches in (2, 4, 6):
        for applications in (5, 10, 20, 30):
            survey, wanted = server(branches), [application(n) for n in range(applications)]
            best = 1e9
            for _ in range(3):
                start = time.perf_counter()
                made = plan(wanted, survey, today=date(2026, 11, 24))
                best = min(best, time.perf_counter() - start)
            chosen = sorted({judgement.target.runtime.branch for judgement in made.after})
            print(f"{applications:3} applications, {branches} branches: {best:5.2f} s, runs on {', '.join(chosen)}")
    print("wanted: 30 applications and 6 branches within 2 s")


if __name__ == "__main__":
    main()
