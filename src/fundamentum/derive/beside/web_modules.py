"""Modules of Apache that an application's ``.htaccess`` files need: without one of them every request fails.

Directives within ``<IfModule>`` are left out by Apache itself where the module is missing, and need nothing.
Source: the directive index of the Apache HTTP Server 2.4 documentation.
"""

import re
from collections.abc import Iterable, Iterator
from pathlib import Path, PurePosixPath
from typing import Final

from fundamentum.derive.result import Entry, Place
from fundamentum.untrusted.files import read_below

MAX_SIZE: Final = 256 * 1024
MAX_FILES: Final = 20
_MODULES: Final = {
    **dict.fromkeys(("rewriteengine", "rewritebase", "rewritecond", "rewriterule", "rewriteoptions"), "rewrite"),
    **dict.fromkeys(("header", "requestheader"), "headers"),
    **dict.fromkeys(("expiresactive", "expiresbytype", "expiresdefault"), "expires"),
    **dict.fromkeys(("addoutputfilterbytype",), "filter"),
    **dict.fromkeys(("deflatecompressionlevel",), "deflate"),
    **dict.fromkeys(("substitute",), "substitute"),
}
_SECTION: Final = re.compile(r"<(?P<end>/?)(?P<name>\w+)", re.I)
_OPTIONAL: Final = frozenset({"ifmodule", "ifdefine", "ifversion", "ifdirective", "iffile"})


def web_modules(root: str, paths: Iterable[str]) -> Iterator[Entry]:
    """The modules, each with the first place that needs it.  ``paths``: manifests and settings files."""
    seen: set[str] = set()
    own = [path for path in paths if PurePosixPath(path).name == ".htaccess" and "/vendor/" not in f"/{path}"]
    for path in sorted(own, key=lambda path: (path.count("/"), path))[:MAX_FILES]:
        try:
            text = read_below(Path(root), path, MAX_SIZE).decode("utf-8", "replace")
        except OSError:
            continue
        for number, directive in _always(text):
            module = _MODULES.get(directive.lower(), "")
            if module and module not in seen:
                seen.add(module)
                rule = f"{path} needs it under Apache"
                yield Entry("web_module", (module,), "recommended", "", rule, (Place(path, number, directive),))


def _always(text: str) -> Iterator[tuple[int, str]]:
    """Line and name of each directive that stands under no condition."""
    within = 0
    for number, line in enumerate(text.splitlines(), 1):
        section = _SECTION.match(line.strip())
        if section is not None:
            within += (-1 if section["end"] else 1) if section["name"].lower() in _OPTIONAL else 0
        elif not within and (words := line.split(maxsplit=1)) and not words[0].startswith("#"):
            yield number, words[0]
