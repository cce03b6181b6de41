"""What an application wants of the web server, and where on a server its directory is."""

from typing import Final, Literal

from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value
from fundamentum.webservers import for_sites

Aspect = Literal["served", "document_root", "front_controller", "module", "deny", "listing", "home"]
_MODULE: Final = lazy_regex(r"[a-z][a-z0-9_]{0,40}")
NO_FILE: Final = "/no-such-page"
"""An address of which no application has a file."""


LIST: Final = "/."
"""The list of a directory in which there is no index file."""


class WebNeed(Value, frozen=True):
    """One thing that is wanted of the web server."""

    aspect: Aspect
    value: str = ""
    """The web servers, with bars; a path below the application's directory; a module; a directory."""
    document_root: str = ""
    """The document root, below the application's directory, wherever that matters."""
    level: Level = "required"

    @property
    def key(self) -> NeedId:
        """``web:served``, ``web:module:rewrite``, ``web:deny:config``."""
        about = f":{self.value}" if self.aspect in ("module", "deny") else ""
        return NeedId(f"web:{self.aspect}{about}")

    @property
    def addresses(self) -> tuple[str, ...]:
        """A directory as visitors would ask for it: below the right document root, or the whole application."""
        paths = (address(self.value, self.document_root), f"/{self.value}/")
        return tuple(dict.fromkeys(path for path in paths if path))

    @property
    def servers(self) -> tuple[str, ...]:
        """The web servers that will do, as a survey names them."""
        known = for_sites()
        return tuple(known[name.strip()] for name in self.value.split("|") if self.value) or tuple(known.values())


def is_module(text: str) -> bool:
    """Whether it can be the name of a web server's module, as needs files have it: ``rewrite``."""
    return _MODULE.fullmatch(text) is not None


def address(path: str, document_root: str) -> str | None:
    """A directory of the application as visitors would ask for it; None where it is not within the document root."""
    if not document_root:
        return f"/{path}/"
    return f"{path.removeprefix(document_root)}/" if path.startswith(f"{document_root}/") else None
