"""Passwords, tokens and credentials, taken out of what is read before anybody sees it."""

import re
from functools import cache
from typing import Final

from msgspec.structs import replace

from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.origin import Overridden
from fundamentum.model.php import Setting

_SECRET_NAME: Final = lazy_regex(r"passw|passwd|_pw$|\.pw$|secret|token|credential|api_?key|license", re.I)


_SECRET_VALUE: Final = lazy_regex(
    r"(?P<before>://[^/\s:@]*:)(?P<one>[^@\s/]+)(?=@)|"
    r"(?P<key>(?:auth|password|passwd|passwort|pwd|secret|token|api_?key)(?:%5B\w*%5D|\[\w*\])?"
    r"(?:=|(?<=--auth)\s+|(?<=-password)\s+|(?<=-passwd)\s+|(?<=-pwd)\s+|(?<=-secret)\s+|(?<=-token)\s+))"
    r"(?P<two>\"[^\"]*\"|'[^']*'|[^&\s;\"',]+)",
    re.I,
)
"""Credentials in addresses, ``password=WORD`` and ``--password WORD``, in quotes or not."""
_SIGNS: Final = ("://", "auth", "pass", "pwd", "secret", "token", "key")
"""Where none of these stands, it finds nothing."""


_HARMLESS_MAILER: Final = lazy_regex(r"-(?:[tib]s?|o[a-z0-9]{1,3}|f)|[A-Za-z0-9._+-]+@[A-Za-z0-9.-]+")
"""Options of a mailer that hold no secret.  Source: sendmail(8)."""


WITHHELD: Final = "(withheld)"


def mailer(command: str) -> str:
    """The command that sends mail, as far as it can hold no password: the program, and options known as harmless."""
    words = command.split()
    kept = words[:1]
    for word in words[1:]:
        if not _HARMLESS_MAILER.fullmatch(word):
            return " ".join((*kept, WITHHELD))
        kept.append(word)
    return command


def without_secrets(name: str, value: str) -> str:
    """A directive's value as it may be shown."""
    return setting_without_secrets(name, Setting(value)).value or ""


@cache
def names_a_secret(directive: str) -> bool:
    """Whether what is called so may be a password, a token or a key."""
    return _SECRET_NAME.search(directive) is not None


def without_credentials(text: str) -> str:
    """The text with credentials in addresses and ``password=`` pairs taken out."""
    if "=" not in text and "://" not in text and "-" not in text:  # most texts: a number, a path, a switch
        return text
    folded = text.casefold()
    if not any(sign in folded for sign in _SIGNS):  # takes a tenth of the time
        return text
    return _SECRET_VALUE.sub(lambda m: (m["before"] or m["key"]) + WITHHELD, text)


def setting_without_secrets(name: str, setting: Setting) -> Setting:
    """No password, token or credential leaves the server, whichever directive it stands in."""
    if names_a_secret(name):
        if not setting.value and not setting.overridden:
            return setting
        kept = tuple(Overridden(lost.origin, WITHHELD) for lost in setting.overridden)
        return replace(setting, value=WITHHELD if setting.value else setting.value, overridden=kept)
    if name == "sendmail_path":
        hidden = tuple(Overridden(lost.origin, WITHHELD) for lost in setting.overridden)
        setting = replace(setting, value=setting.value and mailer(setting.value), overridden=hidden)
    value = setting.value and without_credentials(setting.value)
    lost = tuple(Overridden(lost.origin, lost.value and without_credentials(lost.value)) for lost in setting.overridden)
    return (
        setting
        if (value, lost) == (setting.value, setting.overridden)
        else replace(setting, value=value, overridden=lost)
    )
