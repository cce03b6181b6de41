"""What a site's own layers change of a runtime.  tests/sites holds whole cases against what real sites answered."""

import pytest

from fundamentum.effective.site_configuration import for_site
from fundamentum.model.layers import Assignment, Layer, LayerKind
from fundamentum.model.origin import Origin
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.survey import Site

LINE = Origin("/etc/nginx/site", 7)
CASES: list[tuple[LayerKind, str, str | None, str | None, str | None]] = [  # layer, directive, before, there; then
    ("request", "disable_functions", "exec", "mail", "exec,mail"),
    ("request-admin", "disable_functions", "", "mail", "mail"),
    ("request", "disable_functions", None, "mail", None),
    ("request", "disable_functions", "exec", None, None),
    ("user-ini", "disable_functions", "exec", "mail", "exec"),
    ("request", "memory_limit", "64M", "96M", "96M"),
    ("user-ini", "memory_limit", "64M", None, None),
    ("user-ini", "file_uploads", "1", "0", "1"),
    ("request-admin", "file_uploads", "1", "0", "0"),
    ("request", "nowhere", "1", "2", "1"),
]


@pytest.mark.parametrize(("kind", "name", "before", "there", "then"), CASES)
def test_a_layer(kind: LayerKind, name: str, before: str | None, there: str | None, then: str | None) -> None:
    runtime = Runtime("8.2", "fpm", "8.2.9", pool="www", settings={name: Setting(before, Origin("/etc/p.ini", 1))})
    site = Site("a", "nginx", LINE, runtime=runtime.label, layers=(Layer(kind, (Assignment(name, there, LINE),)),))
    seen = for_site(runtime, site).settings[name]
    if name != "nowhere":
        assert seen.value == then
        changed = seen.value != before or None in (before, there)
        assert (seen.origin == LINE, seen.set_by) == (changed, "site" if changed else "ini")
