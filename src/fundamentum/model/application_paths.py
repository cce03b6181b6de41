"""Where an application's directories may be on a server."""

import posixpath
from collections.abc import Sequence
from typing import Final

from fundamentum.model.survey import Site

PUBLIC: Final = frozenset({"public", "public_html", "web", "www", "htdocs", "html", "httpdocs", "webroot", "pub"})
"""Names of document roots that are a part of an application's directory."""


def candidates(path: str, sites: Sequence[Site]) -> list[str]:
    """Where a directory may be: as it is written, or below each site's document root and the directory above that."""
    if path.startswith("/"):
        return [path]
    roots = dict.fromkeys(site.root.rstrip("/") for site in sites if site.root)
    parts = []
    for root in roots:
        above = [posixpath.join(posixpath.dirname(root), path)] if posixpath.dirname(root) not in ("/", "") else []
        inside = [posixpath.join(root, path)]
        parts += above + inside if posixpath.basename(root) in PUBLIC else inside + above
    return list(dict.fromkeys(parts))
