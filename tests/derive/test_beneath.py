"""What PHP tells of what lies beneath it, for any version that a program may write."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.derive.trying.beneath import LIBRARY, NEWEST, TELLING, before, of_php, of_text, written_out
from fundamentum.model.constraints import intervals

VERSIONS = (
    st.lists(st.integers(0, 9999), min_size=1, max_size=4).filter(any).map(lambda found: ".".join(map(str, found)))
)


@given(st.sampled_from(sorted(TELLING)), VERSIONS)
def test_any_version_can_be_told(name: str, version: str) -> None:
    assert of_php(name, lambda _: True, lambda _: version) is not None
    assert intervals(f">={version}")
    assert of_text(before(version)) <= of_text(version)


@pytest.mark.parametrize(
    ("library", "written", "version"),
    [
        ("openssl", "0x1000100f", "1.0.1"),
        ("openssl", "0x30000020", "3.0.2"),
        ("libxml", "20914", "2.9.14"),
        ("libcurl", "0x073D00", "7.61.0"),
        ("sqlite", "3024000", "3.24.0"),
        ("icu", "'50.1'", "50.1"),
        ("icu", "20914", None),
    ],
)
def test_versions_as_programs_write_them(library: str, written: str, version: str | None) -> None:
    assert library in NEWEST
    assert written_out(f"{LIBRARY}{library}", written) == version
