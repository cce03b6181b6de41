"""Which tests are run, and how they are dealt out where several processes run them side by side."""

import gc
import os
import shutil
import tempfile
from pathlib import PurePosixPath
from typing import Any, Final

import pytest
from hypothesis import settings
from xdist.scheduler import LoadScopeScheduling

from tests import whole_results
from tests.examples import WHOLE

settings.register_profile("whole", deadline=None)  # how long an example takes says nothing on a busy machine
settings.register_profile("quick", deadline=None, max_examples=25)
settings.load_profile("whole" if WHOLE else "quick")

SAME_SERVER: Final = {
    "test_derive": "server",
    "test_laboratory": "laboratory",
    "test_links": "laboratory",
    "test_loaders": "server",
    "test_new_site": "new site",
    "test_requirements": "new site",
    "test_rpm": "twin",
    "test_truth": "server",
    "test_web": "twin",
}
"""Files whose tests use the same real server stay in one process; every other file is dealt out by itself."""


def pytest_configure() -> None:
    """What the program keeps for the next time is kept apart from the user's own, for all processes of a run together."""
    if "PYTEST_XDIST_WORKER" not in os.environ:
        os.environ["XDG_CACHE_HOME"] = tempfile.mkdtemp(prefix="fundamentum-kept-")
    whole_results.watch()


def pytest_unconfigure() -> None:
    """Leave nothing behind."""
    whole_results.write_all()
    if "PYTEST_XDIST_WORKER" not in os.environ:
        shutil.rmtree(os.environ["XDG_CACHE_HOME"], ignore_errors=True)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Leave out what takes long, with a plain reason; files that take minutes begin first, so that none ends alone."""
    items.sort(key=lambda item: item.path.parent.name != "real")
    for item in items if not WHOLE else ():
        if item.get_closest_marker("long"):
            item.add_marker(pytest.mark.skip(reason="takes long: set FUNDAMENTUM_REAL=1 (.ci/run does)"))


def pytest_collection_finish() -> None:
    """What the tests themselves are made of stays: a library that cleans up after each damaged file searches the rest."""
    gc.collect()
    gc.freeze()


class ByServer(LoadScopeScheduling):  # type: ignore[misc]  # it comes without types
    """One process for all tests of a server."""

    def _split_scope(self, nodeid: str) -> str:
        file = nodeid.partition("::")[0]
        return SAME_SERVER.get(PurePosixPath(file).stem, file)


def pytest_xdist_make_scheduler(config: Any, log: Any) -> ByServer:
    """Deal out by server, in the order of the tests."""
    config.option.loadscopereorder = False
    return ByServer(config, log)
