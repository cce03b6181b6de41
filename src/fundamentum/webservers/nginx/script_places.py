"""Where the scripts lie that a location of nginx hands to PHP: below the root, or where something else leads.

Source: nginx's documentation of ``alias`` and of its FastCGI module; PHP takes the script from ``SCRIPT_FILENAME``.
"""

from collections.abc import Iterable
from typing import Final

from fundamentum.model.layers import Layer
from fundamentum.model.origin import Origin

Parameter = tuple[str, str, Origin]
"""A FastCGI parameter, its text, and the line that sends it."""
Alias = tuple[str, Origin]
"""The directory to which a location's requests lead instead of the root, empty where a recording left it out; and
the line that says so."""
_ROOTS: Final = ("$document_root", "$realpath_root", "$request_filename", "${document_root}", "${realpath_root}")
_ADDRESSES: Final = ("fastcgi_script_name", "uri", "document_uri")
"""Variables that hold the address of a script."""


def scripts_in(root: str | None, alias: Alias | None, sent: Iterable[Parameter]) -> str | None:
    """The directory in which the scripts lie; None: it is not known."""
    if alias and not alias[0]:
        return None
    if alias:
        known, variable, _ = alias[0].partition("$")  # behind it the rest of the address: /srv/vault/$1
        return (known.rpartition("/")[0] if variable else known.rstrip("/")) or None
    script = next((text for name, text, _ in sent if name == "SCRIPT_FILENAME"), "")
    if not script.startswith("/") or (root and script.startswith(root)):
        return root
    known, _, variable = script.partition("$")
    if variable and not variable.startswith(_ADDRESSES):
        return root
    return (known.rstrip("/") if variable else known.rpartition("/")[0]) or root


def elsewhere(root: str | None, alias: Alias | None, sent: Iterable[Parameter]) -> Layer | None:
    """What makes other files of directories count than those in the document root: which, is not followed."""
    by_name = {name: (text, origin) for name, text, origin in sent}
    for name in ("DOCUMENT_ROOT", "SCRIPT_FILENAME"):
        text, origin = by_name.get(name, ("", None))
        usual = (*_ROOTS, *((root,) if root else ()))
        if origin and not (text in usual or (name == "SCRIPT_FILENAME" and text.startswith(usual))):
            why = f"{name} is sent as {text[:200]}, so files of other directories count"
            return Layer("user-ini", (), origin, why)
    return Layer("user-ini", (), alias[1], "an alias leads to another directory") if alias else None
