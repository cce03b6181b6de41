"""Module streams that could be switched on, weighed beside the branch that is there."""

from datetime import date

import pytest

from fundamentum.changes.module_stream import UseStream
from fundamentum.model.origin import Origin
from fundamentum.model.packages import Installed, Offer
from fundamentum.model.php import Branch, Runtime, Setting
from fundamentum.model.survey import Site, Survey
from fundamentum.model.system import System
from fundamentum.plan.module_streams import candidates
from fundamentum.plan.planner import plan
from fundamentum.platforms.offers import Offers
from fundamentum.report.plans.script import as_script
from tests.small_root import needs

API = {"8.0": "20200930", "8.2": "20220829"}


def offers(branch: str, stream: str, shut_out: str = "") -> list[Offer]:
    api = f"php(zend-abi) (= {API[branch]}-64)"
    return [
        Offer(f"php-{name}", f"{branch}.9-1.el9", "appstream", provides=f"php-{name}, {api if name == 'common' else ''}",
              depends=f"php(zend-abi) (= {API[branch]}-64)", stream=stream, shut_out=shut_out)
        for name in ("fpm", "common", "gd")
    ]  # fmt: skip


def server() -> Survey:
    """PHP 8.0 in use, with a limit of its own; the stream of 8.2 is there and not switched on."""
    settings = {"memory_limit": Setting("96M", Origin("/etc/php.d/x.ini", 1)), "post_max_size": Setting("8M")}
    runtime = Runtime("8.0", "fpm", "8.0.9", pool="www", serves=True, listen="/run/php-fpm/www.sock", user="apache",
                      service="php-fpm", scan_dir="/etc/php.d", ini_file="/etc/php.ini", settings=settings)  # fmt: skip
    return Survey(
        4, "deneb", System("redhat", "rocky", "Rocky", "9"), branches=(Branch("8.0", API["8.0"], "/usr/lib64/php/modules"),),
        runtimes=(runtime,), installed=tuple(Installed(offer.name, offer.version) for offer in offers("8.0", "")),
        offers=(*offers("8.0", ""), *offers("8.2", "php:8.2", "its module stream is not switched on")),
        sites=(Site("nightlog", "nginx", Origin("/etc/nginx/nginx.conf", 3), runtime="8.0/fpm/www"),),
    )  # fmt: skip


def test_a_stream_is_a_candidate_with_its_packages_in_place_of_the_others() -> None:
    (switched,) = candidates(server(), Offers(server()))
    assert (switched.switch, switched.branch, switched.target.runtime.label) == ("php:8.2", "8.2", "8.2/fpm/www")
    runtime = switched.target.runtime
    assert runtime.settings["memory_limit"].value == "96M", "the configuration files stay"
    assert runtime.settings["post_max_size"].value != "96M" and (runtime.listen, runtime.user) == (
        "/run/php-fpm/www.sock",
        "apache",
    )
    assert {package.version for package in switched.survey.installed or ()} == {"8.2.9-1.el9"}
    assert {offer.stream for offer in switched.survey.offers or () if not offer.shut_out} == {"php:8.2"}


@pytest.mark.parametrize(("php", "switched"), [(">=8.2", True), (">=8.0, <8.2", False)])
def test_it_is_switched_on_where_the_application_accepts_nothing_else(php: str, switched: bool) -> None:
    made = plan([needs("gd", php=php)], server(), today=date(2026, 11, 24))
    assert [use_stream.stream for use_stream in made.of(UseStream)] == (["php:8.2"] if switched else [])
    assert made.complete
    if switched:
        assert made.steps[0].operation.title == "decide: switch to the module stream php:8.2"
        assert "need_stream php 8.2" in as_script(made) and "for every site on deneb" in as_script(made)
