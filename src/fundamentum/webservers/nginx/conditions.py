"""Conditions of nginx's ``if``, as they are for a visitor who is nobody in particular.

Source: nginx's documentation of its rewrite module.  He asks for a page with GET, by the site's own name, with no
arguments and no cookies; of everything else about him an ``if`` is taken to mean others.
"""

import re
from collections.abc import Callable, Sequence
from typing import Any, Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.untrusted.patterns import search
from fundamentum.webservers.visit_questions import Asked, Unclear, matched

Block = Sequence[dict[str, Any]]
_ABOUT_VISITOR: Final = lazy_regex(r"\$(?:host|scheme|https|server_\w+|remote_\w+|http_\w+)\b")
_NOTHING: Final = lazy_regex(r"\$(?:args?|arg_\w+|query_string|is_args|cookie_\w+|http_cookie)")
"""What such a request has none of."""
_FILES: Final = ("$request_filename", "$document_root$uri", "$document_root$fastcgi_script_name")
_ENDINGS: Final = tuple("abcdefghijklmnopqrstuvwxyz0123456789")
_ADDRESSES: Final = ("$uri", "$request_uri", "$document_uri")


def decides(block: Block) -> bool:
    """Whether the block of an ``if`` changes what comes of a request."""
    return any(
        line["directive"] in ("return", "rewrite", "break") or line["directive"].endswith("_pass") for line in block
    )


def holds(args: Sequence[str], asked: Asked, name: str, is_file: Callable[[str], bool] | None = None) -> bool:
    """Whether a condition holds for such a visitor, who asks by this name; raises :class:`Unclear`.

    ``is_file`` tells whether a path is a file, for conditions about a certain one.
    """
    first, *rest = [word for word in re.sub(r"^\(|\)$", "", " ".join(args)).split(" ") if word] or [""]
    if match := re.match(r"(!?)-[fde]$", first):
        if len(rest) == 1 and rest[0] in _FILES:
            return asked.there != bool(match[1])
        certain = len(rest) == 1 and rest[0].endswith(_ENDINGS) and rest[0].count("$") <= 1
        if not certain or is_file is None or "-d" in first:
            raise Unclear
        return is_file(rest[0]) != bool(match[1])
    known = _value(first, asked, name)
    if known is not None:
        return _compared(known, rest)
    if _ABOUT_VISITOR.match(first):
        return False
    raise Unclear


_BROUGHT: Final = lazy_regex(
    r"\(?\$http_(?!(?:host|user_agent|referer|cookie|origin|upgrade|connection|range|dnt|if_\w+|accept\w*|x_forwarded_\w+)"
    r"(?![\w]))\w+"
)
"""A header that no browser sends by itself."""


def wants_header(args: Sequence[str]) -> bool:
    """Whether a condition holds where a request has not got a header that no browser sends by itself."""
    first, *rest = [word for word in re.sub(r"^\(|\)$", "", " ".join(args)).split(" ") if word] or [""]
    try:
        return _BROUGHT.fullmatch(first) is not None and _compared("", rest)
    except Unclear:
        return False


def _value(variable: str, asked: Asked, name: str) -> str | None:
    """What a variable holds; None where that is not known."""
    if variable in _ADDRESSES:
        return asked.uri
    if variable == "$request_method":
        return "GET"
    if variable in ("$host", "$http_host") and name and not re.search(r"[*~]|^default$", name):
        return name
    return "" if _NOTHING.fullmatch(variable) else None


def _compared(value: str, rest: Sequence[str]) -> bool:
    """A value, as the words behind it compare it."""
    if not rest:
        return value not in ("", "0")
    sign, wanted = rest[0], " ".join(rest[1:])
    if sign in ("~", "~*") and not value and len(rest) == 2 and search(wanted, value) is None:
        return False  # such patterns are for something
    if sign.lstrip("!") in ("~", "~*") and len(rest) == 2:
        return bool(matched(wanted, value, any_case=sign.endswith("*"))) != sign.startswith("!")
    if sign in ("=", "!=") and "$" not in wanted:
        return (value == wanted) != sign.startswith("!")
    raise Unclear
