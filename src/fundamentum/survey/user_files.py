"""PHP's own files in directories (``.user.ini``), as FPM and CGI read them for each site.

Source: php.net, ".user.ini files": from the document root down to the script's directory, read by these two only; the
name and whether there are any is decided by the runtime's ``user_ini.filename``.
"""

import posixpath
from collections.abc import Iterable, Iterator, Mapping
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog import facts
from fundamentum.hosts.base import MAX_BELOW, Host, HostError, folders_below, text_of
from fundamentum.model.layers import Layer, LayerKind
from fundamentum.model.origin import Origin
from fundamentum.model.php import Runtime
from fundamentum.model.remark import Remark
from fundamentum.model.survey import Site
from fundamentum.php_files import ini
from fundamentum.webservers.handoffs import assignments

DEFAULT: Final = ".user.ini"
MAX_FILE: Final = 256 * 1024


def with_user_files(host: Host, site: Site, runtime: Runtime) -> Site:
    """The site with a layer for each such file in its document root, and in the directories below that."""
    if why := _unknown_root(host, site.root):
        kind: LayerKind = "user-ini" if runtime.sapi in ("fpm", "cgi") else "htaccess"
        origin = site.origin if _depends(site.root) else Origin(site.root or "")
        return replace(site, layers=(*site.layers, Layer(kind, (), origin, why)))
    if runtime.sapi not in ("fpm", "cgi") or not site.root or not site.root.startswith("/"):
        return site
    setting = runtime.settings.get("user_ini.filename")
    if setting is not None and setting.value is None:
        unknown = Layer("user-ini", (), setting.origin, "whether and which files of directories are read is unknown")
        return replace(site, layers=(*site.layers, unknown))
    name = setting.value if setting else DEFAULT
    if not name or "/" in name:
        return site
    if not host.whole and name != DEFAULT:
        unknown = Layer("user-ini", (), Origin(site.root), f"a recording does not hold files called {name}")
        return replace(site, layers=(*site.layers, unknown))
    root = host.resolve(site.root) or site.root  # a linked document root counts by where it leads
    return replace(site, layers=(*site.layers, *_layers(host, root, name, facts(runtime.branch).constants)))


def _unknown_root(host: Host, root: str | None) -> str:
    """Why it is not known what files in a document root set; empty where it is."""
    if root and _depends(root):
        return f"the document root {root[:200]} depends on the request: what files in it set is unknown"
    if not host.whole and root and root.startswith("/") and host.stat(root) is None:
        return "the recording does not hold this document root: what files in it set is unknown"
    return ""


def _depends(root: str | None) -> bool:
    """Whether a document root holds what the web server fills in for each request."""
    return bool(root) and any(sign in str(root) for sign in "$%")


def _layers(host: Host, root: str, name: str, constants: Mapping[str, str]) -> Iterator[Layer]:
    for folder in ("", *(path for path, names in folders_below(host, root).folders if name in names)):
        path = posixpath.join(root, folder, name)
        try:
            text = text_of(host, path, MAX_FILE)
        except HostError as error:
            yield Layer("user-ini", (), Origin(path), f"{error}: what it sets is unknown", folder)
            continue
        if text is None:
            continue
        parsed = ini.parse(text, constants)
        if any((entry.section or "").upper().startswith(("PATH", "HOST")) for entry in parsed.entries):
            why = "it has a [PATH=] or [HOST=] section, which some versions of PHP do not survive"
            yield Layer("user-ini", (), Origin(path), why, folder)
            continue
        values = assignments(text, constants, lambda line, path=path: Origin(path, line))  # type: ignore[misc]
        yield Layer("user-ini", values, Origin(path, 1), "", folder)


def not_looked_into(host: Host, served: Iterable[Site]) -> Iterator[Remark]:
    """That some sites have more directories than are looked into for files of their own."""
    roots = dict.fromkeys(site.root for site in served if site.root and site.root.startswith("/"))
    large = [root for root in roots if folders_below(host, host.resolve(root) or root).stopped]
    if large:
        and_more = f" and {len(large) - 1} more" if len(large) > 1 else ""
        why = f"files that change PHP's configuration are looked for in the first {MAX_BELOW} directories"
        yield Remark("web sites", f"{large[0]}{and_more}: {why} of a document root: what others set is unknown")
