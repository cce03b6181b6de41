"""Addresses that applications ask about, as requests that are tried on a web server's configuration."""

import re
from collections.abc import Callable, Iterator
from contextlib import suppress
from typing import Final

import msgspec

from fundamentum.model.surrounding_facts import Barrier, Visit
from fundamentum.untrusted.patterns import search

LIST: Final = "/."
"""The list of the document root, if there is no index file."""
MAX_TURNS: Final = 10
"""Internal redirections.  Source: nginx's documentation of ``rewrite``; Apache's of ``LimitInternalRecursion``."""
_FILES: Final = ("x.txt", "x.php", "x")
_RANK: Final = ("handed-out", "script", "unclear", "missing", "refused")


class Unclear(Exception):
    """What comes of a request is not followed here."""


class Asked(msgspec.Struct, frozen=True):
    """One request on its way."""

    uri: str
    there: bool
    """Whether there is a file, or a directory, of that name."""
    turns: int = 0
    inside: bool = False
    """Whether the server itself rewrote the address, so that what is for its own requests alone answers."""
    address: str = ""
    """The address that sections for addresses see, where that is another one than the file's."""


def answer(question: str, of: Callable[[Asked], Visit]) -> Visit:
    """What comes of a question, as :attr:`~fundamentum.model.survey.Site.visits` has it: of several the worst.

    ``of`` tells what comes of one request, or raises :class:`Unclear`.
    """
    return min((_one(asked, of) for asked in tried(question)), key=lambda visit: _RANK.index(visit.outcome))


def tried(question: str) -> Iterator[Asked]:
    """The requests that a question comes to.

    One that ends with a slash is about the files of a directory, one that begins with ``=`` about one file, another one
    about a page of which there is no file.
    """
    if question == LIST:
        yield Asked("/", True)
    elif question.startswith("="):
        yield Asked(question[1:], True)
    elif question.endswith("/"):
        yield from (Asked(f"{question}{name}", True) for name in _FILES)
    else:
        yield Asked(question, False)


def _one(asked: Asked, of: Callable[[Asked], Visit]) -> Visit:
    """The answer to one request; a file in whose place a script answers is as good as missing."""
    try:
        visit = of(asked)
    except (Unclear, RecursionError):
        return Visit("unclear")
    instead = visit.outcome == "script" and asked.there and visit.script != asked.uri
    return Visit("missing", visit.script, visit.origin) if instead else visit


def barred(title: str, script: str, of: Callable[[Asked], Visit], *, led: bool = False) -> Iterator[Barrier]:
    """What keeps a visitor from a site of which the script is there; ``of`` tells what comes of one request.

    Told only where it is certain for everybody: ``of`` raises :class:`Unclear` where it is not.  ``led``: a request for
    the directory comes to nothing as long as no line leads it to the script, so that only what is beyond is asked.
    """
    if led:
        for uri in ("/", script):
            with suppress(Unclear, RecursionError):
                page = of(Asked(uri, True))
                if page.origin and page.outcome in ("refused", "missing" if uri == script else "refused"):
                    why = f"{title} answers a request for {uri} with an error"
                    yield Barrier(why, "take that line out, if visitors are to come", page.origin)
                    return
        return
    pairs = []
    for uri in ("/", script):
        try:
            pairs.append((uri, of(Asked(uri, True))))
        except (Unclear, RecursionError):
            return
    (_, first), (_, page) = pairs
    if page.outcome == "handed-out":
        why = f"{title} hands out the source of {script}, and not what PHP makes of it"
        yield Barrier(why, "let it hand that to PHP as well", page.origin, stops=first.outcome != "script")
        return
    stopped = [visit for visit in (first, page) if visit.outcome in ("refused", "missing") and visit.origin]
    if page in stopped and (first in stopped or first.outcome == "handed-out"):
        with_what = "with an error, and one" if first in stopped else "with a file, and one"
        why = f"{title} answers a request for / {with_what} for {script}" + (
            "" if first in stopped else " with an error"
        )
        yield Barrier(why, "take that line out, if visitors are to come", page.origin)
    elif first in stopped:
        why = f"{title} answers a request for / with an error"
        yield Barrier(why, "take that line out, if visitors are to come", first.origin, stops=False)


def matched(pattern: str, text: str, *, any_case: bool = False) -> "re.Match[str] | bool":
    """The first match, or False; raises :class:`Unclear` where that cannot be told."""
    match = search(pattern, text, any_case=any_case)
    if match is None:
        raise Unclear
    return match
