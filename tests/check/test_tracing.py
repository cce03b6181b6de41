"""One extension, setting or package in full."""

from pathlib import Path

import msgspec
import pytest

import fundamentum.demo
from fundamentum.check.trace import Place, Trace, Wanted, trace
from fundamentum.model.need_id import NeedId
from fundamentum.model.php import Answer
from fundamentum.needs.file import load
from fundamentum.survey.server_reference import look

DATA = Path(fundamentum.demo.__file__).parent / "data"
VEGA = look(str(DATA / "vega.survey.json"))
NIGHTLOG, DOMEKEEPER = (load(DATA / f"{name}.needs.toml") for name in ("nightlog", "domekeeper"))


def one(name: str, kind: str) -> Trace:
    return next(traced for traced in trace(name, VEGA, [NIGHTLOG, DOMEKEEPER]) if traced.kind == kind)


def test_a_setting_names_every_place_in_load_order_and_who_wins() -> None:
    traced = one("upload_max_filesize", "setting")
    pool = next(runtime for runtime in traced.runtimes if runtime.runtime == "8.2/fpm/www")
    assert pool.places == (
        Place("built-in", "2M"),
        Place("/etc/php/8.2/fpm/php.ini:855", "2M"),
        Place("/etc/php/8.2/fpm/conf.d/95-uploads.ini:2", "200", True),
    )
    assert pool.now == "200"
    assert traced.wanted_by == (
        Wanted("nightlog", "required", ">= 16M", NIGHTLOG.note(NeedId("setting:upload_max_filesize")) or ""),
    )
    assert traced.facts == ("comes with core; may be set in each directory's own file, the system's files and pools",)


def test_a_setting_without_a_file_stands_at_its_built_in_default() -> None:
    runtime = one("max_input_nesting_level", "setting").runtimes[0]
    assert (runtime.now, runtime.places) == ("64", (Place("built-in", "64", True),))


def test_what_a_running_pool_says_is_said_too() -> None:
    heard = tuple(msgspec.structs.replace(r, answer=Answer((), {"memory_limit": "64M"})) for r in VEGA.runtimes)
    traced = trace("memory_limit", msgspec.structs.replace(VEGA, runtimes=heard))[0]
    assert traced.runtimes[-1].now == "128M; the running pool has 64M"


def test_an_extension_names_its_file_its_package_and_its_state_everywhere() -> None:
    traced = one("dom", "extension")
    assert traced.facts == (
        "file /usr/lib/php/20220829/dom.so (of php8.2-xml, switched on by /etc/php/8.2/mods-available/dom.ini)",
    )
    states = {runtime.runtime: runtime.now.partition(":")[0] for runtime in traced.runtimes}
    assert states == {"8.2/cli": "active", "8.2/fpm/www": "switched-off"}
    assert [source.origin for source in traced.sources] == ["installed", "Debian bookworm/main"]


NAMES = [  # name, kinds, one of its facts
    ("gd", {"extension"}, None),
    ("Zend OPcache", {"extension"}, None),
    ("extension:json", {"extension"}, "part of PHP 8.2 itself"),
    ("mcrypt", {"extension"}, "gone from PHP itself with 7.2"),
    ("Orrery Loader", {"extension"}, None),
    ("php8.2-xml", {"package"}, "brings dom, simplexml, xml, xmlreader, xmlwriter, xsl"),
    ("track_errors", {"setting"}, "gone from PHP with 8.0"),
    ("setting:gd", set(), None),
    ("nosuch", set(), None),
    ("", set(), None),
    ("\x1b[2J", set(), None),
]


@pytest.mark.parametrize(("name", "kinds", "fact"), NAMES)
def test_a_name_means_what_it_can_mean(name: str, kinds: set[str], fact: str | None) -> None:
    traces = trace(name, VEGA, [NIGHTLOG, DOMEKEEPER])
    assert {traced.kind for traced in traces} == kinds
    assert fact is None or fact in traces[0].facts
