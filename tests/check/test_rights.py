"""The narrowest change of a file's rights while an installer runs, and afterwards."""

import pytest

from fundamentum.kinds.directories.rights import closed, opened
from fundamentum.model.surrounding_facts import Account, Place
from fundamentum.model.survey import Survey
from fundamentum.model.system import System

ACCOUNT = Account("www-data", 33, (33,), "www-data")
SURVEY = Survey(4, "mizar", System())


@pytest.mark.parametrize(
    ("user", "group", "mode", "opens", "closes"),
    [  # owner, group and mode before; owner (empty: as it was) and mode while it is open; group and mode afterwards
        (0, 0, 0o644, ("www-data", 0o644), (None, 0o644)),
        (0, 0, 0o666, ("www-data", 0o666), (None, 0o644)),
        (33, 33, 0o444, (None, 0o644), (None, 0o444)),
        (1000, 33, 0o660, ("www-data", 0o660), (None, 0o640)),
        (1000, 33, 0o600, ("www-data", 0o600), (None, 0o604)),
    ],
)
def test_a_file_of_the_installer(
    user: int, group: int, mode: int, opens: tuple[str | None, int], closes: tuple[str | None, int]
) -> None:
    place = Place("/srv/nightlog/config.php", "file", user=user, group=group, mode=mode)
    change, after = opened(place, SURVEY, ACCOUNT), closed(place, SURVEY, ACCOUNT)
    assert change is not None
    assert after is not None
    assert (change.owner, change.mode) == opens
    assert (after.group, after.mode) == closes


def test_a_file_behind_a_link_and_a_directory() -> None:
    link = Place("/srv/nightlog/config.php", "file", real="/etc/nightlog/config.php", mode=0o644)
    change = opened(link, SURVEY, ACCOUNT)
    assert change is not None and change.path == "/etc/nightlog/config.php"
    folder = opened(Place("/srv/nightlog/config", "directory", mode=0o755), SURVEY, ACCOUNT)
    assert folder is not None and (folder.path, folder.owner, folder.mode) == ("/srv/nightlog/config", "www-data", None)
