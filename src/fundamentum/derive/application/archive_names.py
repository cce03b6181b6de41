"""Whether a file is an application's archive, by its name: asked of every file that is given, and quick to load."""

from pathlib import Path
from typing import Final

ENDINGS: Final = (".zip", ".phar", ".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tbz2", ".tar.xz", ".txz", ".tar.zst")


def is_archive(path: Path) -> bool:
    """Whether a file is called like an archive."""
    return path.name.lower().endswith(ENDINGS)
