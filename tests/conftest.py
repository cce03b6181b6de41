"""How the tests are dealt out where several processes run them side by side."""

from pathlib import PurePosixPath
from typing import Any, Final

from hypothesis import settings
from xdist.scheduler import LoadScopeScheduling

settings.register_profile("unhurried", deadline=None)  # how long an example takes says nothing on a busy machine
settings.load_profile("unhurried")

SAME_SERVER: Final = {
    "test_derive": "server",
    "test_laboratory": "laboratory",
    "test_links": "laboratory",
    "test_loaders": "server",
    "test_rpm": "twin",
    "test_truth": "server",
    "test_web": "twin",
}
"""Files whose tests use the same real server stay in one process; every other file is dealt out by itself."""


class ByServer(LoadScopeScheduling):  # type: ignore[misc]  # it comes without types
    """One process for all tests of a server."""

    def _split_scope(self, nodeid: str) -> str:
        file = nodeid.partition("::")[0]
        return SAME_SERVER.get(PurePosixPath(file).stem, file)


def pytest_xdist_make_scheduler(config: Any, log: Any) -> ByServer:
    """Deal out by server."""
    return ByServer(config, log)
