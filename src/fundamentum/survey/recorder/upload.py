"""One PHP file to be uploaded where there is no shell: opened in a browser with its key, it tells what PHP can see."""

import hashlib
import secrets
from datetime import UTC, datetime
from pathlib import Path
from typing import Final

from fundamentum.catalog.libraries import told_by_php
from fundamentum.model.surrounding_facts import Asked
from fundamentum.survey.recorder import PATH

LIFE: Final = 3600
"""Seconds for which the file answers."""


def upload(asked: Asked | None, now: float) -> tuple[str, str]:
    """The file's text, and the key that it answers to; :mod:`fundamentum.survey.upload_answer` reads the answer."""
    key = secrets.token_urlsafe(24)
    directories = [path for path in (asked.directories if asked else ()) if PATH.fullmatch(path)]
    marks = {
        "MADE": datetime.fromtimestamp(now, UTC).strftime("%Y-%m-%d %H:%M UTC"),
        "UNTIL": str(int(now) + LIFE),
        "DIGEST": hashlib.sha256(key.encode()).hexdigest(),
        "TOLD": told_by_php(),
        "DIRECTORIES": ", ".join(f"'{path}'" for path in directories),
    }
    text = Path(__file__).with_name("upload.php").read_text("utf-8")
    for mark, content in marks.items():
        text = text.replace(f"%{mark}%", content)
    return text, key
