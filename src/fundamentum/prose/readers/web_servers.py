"""The web server: which one, its modules, the document root: *Apache with mod_rewrite*, *point it to public/*."""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.catalog.words import said
from fundamentum.kinds.web.need import is_module
from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import Line
from fundamentum.prose.statement import Statement

SWITCHED_ON: Final = lazy_regex(r"\b\w{2,4}enmod((?:[ \t]+[a-z][a-z0-9_]*)+)")
"""The command of the web server's package that switches modules on."""
_FOR_PHP: Final = ("php", "mpm_", "proxy_fcgi")
"""How modules are called that are one way of several to run PHP, which is judged by itself."""


def modules_switched_on(text: str) -> Iterator[tuple[re.Match[str], str]]:
    """Each module that lines for a shell switch on, but those to run PHP, with the command that does."""
    for match in SWITCHED_ON.finditer(text):
        for name in match[1].split():
            if is_module(name) and not name.startswith(_FOR_PHP):
                yield match, name


def read(line: Line) -> Iterator[Statement]:
    """Modules by their names with ``mod_``; servers where the line is about one; a document root that is named."""
    text = line.text
    for match in re.finditer(r"\bmod_([a-z0-9_]+)\b", text, re.I):
        yield Statement(("web", "modules"), match[1].lower())
    yield from (Statement(("web", "modules"), name) for _, name in modules_switched_on(text))
    if (
        re.search(r"\b(?:URL[- ]rewriting|pretty URLs?|rewrite (?:module|engine|rules?))\b", text, re.I)
        and "mod_" not in text
    ):
        yield Statement(("web", "modules"), "rewrite")
    named = [
        known for word, known in said("web_servers").items() if re.search(rf"(?<![\w/-]){word}(?![\w-])", text, re.I)
    ]
    about = re.search(r"\bweb ?servers?\b", f"{text} {line.heading}", re.I)
    if named and about:
        yield Statement(("web",), " | ".join(dict.fromkeys(named)), "server")
    root = re.search(
        r"\b(?:document ?root|web ?root)\b.{0,60}?[\"'`/ ]([a-z][a-z0-9_-]*)/?[\"'`]?(?: directory| "
        r"folder)?(?:[ .,!;]|$)",
        text,
        re.I,
    )
    if root and root[1].lower() in ("public", "public_html", "web", "www", "htdocs", "html", "pub", "webroot"):
        yield Statement(("web",), root[1], "document_root")
