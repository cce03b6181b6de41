"""Small applications for the tests, written from a dictionary."""

from pathlib import Path

from fundamentum.derive.derive import derive
from fundamentum.derive.result import Derived


def made(root: Path, files: dict[str, str]) -> Path:
    """The files below a directory; PHP's opening tag is added where a file needs one."""
    for path, text in files.items():
        target = root / path
        target.parent.mkdir(parents=True, exist_ok=True)
        php = target.suffix in (".php", ".inc") and not text.startswith("<?")
        target.write_text(f"<?php {text}" if php else text)
    return root


def told(root: Path, files: dict[str, str]) -> Derived:
    """What is derived from such files."""
    return derive(made(root, files))


def levels(derived: Derived) -> dict[str, str]:
    """Extensions and loaders with their level; alternatives joined by ``|``."""
    return {"|".join(e.names): e.level for e in derived.entries if e.kind in ("extension", "loader")}
