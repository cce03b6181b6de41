"""Text that cannot steer anything: types for what is read, and the characters they leave out.

A value of these types holds no control character (C0, DEL, C1), no line or paragraph separator, and none of the
characters that turn the direction of writing.  What ends up as a word of a command, a name in a file or a path is held
to what such a thing can be.  Files that break a type are refused with the place; what probes read is
:func:`scrubbed` once, before anybody sees it.
"""

import re
from typing import Annotated, Any, Final, TypeVar

import msgspec

from fundamentum.lazy_regex import lazy_regex

_UNSAFE: Final = (
    r"\u0000-\u0008\u000a-\u001f\u007f-\u009f"
    r"\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff\ufff9-\ufffb\ud800-\udfff"
)
"""All of them but the tab.  Source: Unicode, general category Cc, and UAX #9 for those that turn the direction."""
END: Final = r"(?![\s\S])"
"""The end of the text: ``$`` would also stand in front of a newline at the end."""

Text = Annotated[str, msgspec.Meta(pattern=rf"^[^\u0009{_UNSAFE}]*{END}")]
"""Any text on one line."""
Line = Annotated[str, msgspec.Meta(pattern=rf"^[^{_UNSAFE}]*\r?{END}")]
"""A line of a file as it stands: with tabs, and the carriage return at its end if there is one."""

PLAIN: Final = r"[A-Za-z0-9_][A-Za-z0-9_.+@-]*"
PATH: Final = r"(?:/[A-Za-z0-9_+@ (-][A-Za-z0-9_.+@ ()-]*)*/\.?[A-Za-z0-9_+@ (-][A-Za-z0-9_.+@ ()-]*"
VERSION: Final = r"[A-Za-z0-9][A-Za-z0-9.+~:^_-]*"
PlainName = Annotated[str, msgspec.Meta(pattern=f"^{PLAIN}{END}", max_length=200)]
"""The name of a user, a pool, a service."""
SERVICE: Final = r"[A-Za-z0-9_][A-Za-z0-9_.+@-]*(?: [A-Za-z0-9_][A-Za-z0-9_.+@-]*)*"
ServiceName = Annotated[str, msgspec.Meta(pattern=f"^{SERVICE}{END}", max_length=200)]
"""What is started and restarted: the name of a service, which may be of several words."""
PackageName = Annotated[str, msgspec.Meta(pattern=rf"^[A-Za-z0-9][A-Za-z0-9+._-]*{END}", max_length=200)]
Version = Annotated[str, msgspec.Meta(pattern=f"^{VERSION}{END}", max_length=200)]
"""The version of a package, of any package manager."""
DIRECTIVE: Final = r"[A-Za-z_][A-Za-z0-9_.-]*"
DirectiveName = Annotated[str, msgspec.Meta(pattern=f"^{DIRECTIVE}{END}", max_length=200)]
"""The name of a directive of PHP or of a web server."""
BranchName = Annotated[str, msgspec.Meta(pattern=rf"^[0-9]{{1,3}}\.[0-9]{{1,3}}{END}")]
FilePath = Annotated[str, msgspec.Meta(pattern=rf"^(?:/|{PATH}){END}", max_length=1000)]
"""A path that may be written to or named in a command: absolute, without ``..`` and hidden directories."""

_BAD: Final = lazy_regex(rf"[\u0009{_UNSAFE}]")
_BAD_IN_LINE: Final = lazy_regex(f"[{_UNSAFE}]")
_MARK: Final = "\N{REPLACEMENT CHARACTER}"

Value = TypeVar("Value")


def safe(text: str) -> str:
    """The text with every such character replaced by U+FFFD."""
    return text if text.isprintable() else _BAD.sub(_MARK, text)


def safe_line(text: str) -> str:
    """The same for a line of a file, which keeps tabs and the carriage return at its end."""
    if text.isprintable():
        return text
    end = "\r" if text.endswith("\r") else ""
    return _BAD_IN_LINE.sub(_MARK, text.removesuffix("\r")) + end


def is_plain(text: str | None) -> bool:
    """Whether the text can be the name of a user, a pool or a service."""
    return text is not None and len(text) <= 200 and re.fullmatch(PLAIN, text) is not None


def is_service(text: str | None) -> bool:
    """Whether the text can be the name of what is started and restarted."""
    return text is not None and len(text) <= 200 and re.fullmatch(SERVICE, text) is not None


def is_path(text: str | None) -> bool:
    """Whether the text is a path that a command or a file may hold."""
    return text is not None and len(text) <= 1000 and (text == "/" or re.fullmatch(PATH, text) is not None)


def is_directive(text: str) -> bool:
    """Whether the text can be the name of a directive."""
    return len(text) <= 200 and re.fullmatch(DIRECTIVE, text) is not None


def is_version(text: str) -> bool:
    """Whether the text can be the version of a package."""
    return len(text) <= 200 and re.fullmatch(VERSION, text) is not None


def scrubbed(value: Value) -> Value:
    """A value made of structs, tuples, lists and dictionaries in which every text is :func:`safe`.

    Lines of files (fields that a struct names in ``LINES``) are held to :func:`safe_line`.
    """
    made_safe: Value = _walked(value, safe)
    return made_safe


def _is_clean(value: Any) -> bool:
    """Whether a quick look already tells that there is nothing to replace."""
    try:
        data = msgspec.json.encode(value).replace(rb"\\", b"").replace(rb"\"", b"")
        return b"\\" not in data and data.decode().isprintable()  # what else is escaped is a control character
    except (UnicodeEncodeError, ValueError):
        return False  # a lone surrogate, which JSON cannot hold


def _walked(value: Any, made: Any) -> Any:
    if isinstance(value, str):
        return made(value)
    if _is_clean(value):
        return value
    if isinstance(value, msgspec.Struct):
        changed = {}
        lines = getattr(value, "LINES", ())
        for name in value.__struct_fields__:
            before = getattr(value, name)
            after = _walked(before, safe_line if name in lines else safe)
            if after is not before:
                changed[name] = after
        return msgspec.structs.replace(value, **changed) if changed else value
    if isinstance(value, tuple | list):
        parts = [_walked(member, made) for member in value]
        same = all(a is b for a, b in zip(parts, value, strict=True))
        return value if same else type(value)(parts)
    if isinstance(value, dict):
        pairs = {_walked(key, safe): _walked(member, made) for key, member in value.items()}
        return value if all(value.get(key) is pair for key, pair in pairs.items()) else pairs
    return value
