"""What an application's containers run beside PHP: databases and services by their images, and web server modules.

``services: {db: {image: "mariadb:10.11"}, cache: {image: "redis:7-alpine"}}``, ``RUN a2enmod rewrite headers``
"""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.catalog.services import services
from fundamentum.derive.beside.files_beside import files_in, line_at, texts_of
from fundamentum.derive.beside.packaged import CONTAINER, CONTAINER_FOLDERS
from fundamentum.derive.result import Entry, Place
from fundamentum.kinds.databases.way import PRODUCTS
from fundamentum.prose.readers.web_servers import modules_switched_on
from fundamentum.untrusted.yaml_document import document

_COMPOSED: Final = re.compile(r"(?:[\w-]+-)?compose(?:[.-][\w-]+)*\.ya?ml", re.I)
_IMAGE: Final = re.compile(r"(?:[\w.-]+(?::\d+)?/)*(?P<name>[a-z][\w-]*)(?:[:@].*)?", re.I)
_SAME: Final = {"postgres": "postgresql", "postgis": "postgresql", "percona": "mysql"}


def container_services(root: str, base: str) -> Iterator[Entry]:
    """One entry for all databases, of which any one will do, and one for each service and module."""
    databases: dict[str, Place] = {}
    others: dict[tuple[str, str], Place] = {}
    paths = [path for _, path in files_in(root, base, CONTAINER_FOLDERS)]
    for path, text in texts_of(root, (path for path in paths if _COMPOSED.fullmatch(path.rpartition("/")[2]))):
        for name, place in _images(path, text):
            product = _SAME.get(name, name)
            if product in PRODUCTS:
                databases.setdefault(product, place)
            elif name in services():
                others.setdefault(("service", name), place)
    for path, text in texts_of(root, (path for path in paths if CONTAINER.fullmatch(path.rpartition("/")[2]))):
        for match, name in modules_switched_on(text):
            place = Place(path, line_at(text, match.start()), match[0].strip()[:60])
            others.setdefault(("web_module", name), place)
    if databases:
        names = tuple(product for product in PRODUCTS if product in databases)
        yield Entry("database", names, "recommended", "", "its containers run it", tuple(databases.values()))
    for (kind, name), place in others.items():
        rule = "its containers run it" if kind == "service" else "its container switches it on"
        yield Entry(kind, (name,), "recommended", "", rule, (place,))  # type: ignore[arg-type]


def _images(path: str, text: str) -> Iterator[tuple[str, Place]]:
    """The name of each image, in lower case, and where it stands."""
    composed = document(text.encode("utf-8", "replace"))
    listed = composed.get("services") if isinstance(composed, dict) else None
    for service in listed.values() if isinstance(listed, dict) else ():
        image = service.get("image") if isinstance(service, dict) else None
        if isinstance(image, str) and (match := _IMAGE.fullmatch(image.strip()[:200])):
            yield match["name"].lower(), Place(path, line_at(text, max(text.find(image), 0)), f"image: {image[:50]}")
