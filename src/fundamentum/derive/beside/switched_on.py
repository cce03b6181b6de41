"""Extensions that an application's samples of ``php.ini`` switch on, or choose to keep sessions with.

``extension=imagick``, ``session.save_handler = memcached``
"""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.catalog.symbols import EVERYWHERE
from fundamentum.derive.beside.configuration_samples import CHOSEN
from fundamentum.derive.beside.files_beside import files_in, texts_of
from fundamentum.derive.beside.settings_files import MAX_LINES
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.derive.result import Entry, Place

_FOLDERS: Final = ("", "config", "conf", "etc", "docs", "contrib", "docker", "docker/php", "php")
_NAMES: Final = re.compile(r"[\w.-]*\.ini(?:[._-](?:sample|dist|example|default))?|\.htaccess(?:[._-]\w+)?", re.I)
_LOADED: Final = re.compile(
    r"[ \t]*(?:zend_)?extension[ \t]*=[ \t]*[\"']?(?:[\w./-]*/)?(?:php_)?(?P<name>[\w-]+)", re.I
)
_KEPT: Final = re.compile(
    r"[ \t]*(?:php_(?:admin_)?value[ \t]+)?session\.save_handler[ \t=]+[\"']?(?P<name>redis|memcached?)\b", re.I
)


def switched_on(root: str, base: str, named: frozenset[str]) -> Iterator[Entry]:
    """One entry for each that nothing else has ``named``."""
    seen = set(named) | EVERYWHERE
    paths = (path for _, path in files_in(root, base, _FOLDERS) if _NAMES.fullmatch(path.rpartition("/")[2]))
    for path, text in texts_of(root, paths):
        lines = text.splitlines()
        for number, line in enumerate(lines if len(lines) <= MAX_LINES else (), 1):
            match = _LOADED.match(line) or _KEPT.match(line)
            extension = extension_called(match["name"].encode()) if match is not None else ""
            if match is not None and extension and extension not in seen:
                seen.add(extension)
                rule = CHOSEN if match.re is _KEPT else "a settings file of the application switches it on"
                yield Entry(
                    "extension", (extension,), "recommended", "", rule, (Place(path, number, line.strip()[:60]),)
                )
