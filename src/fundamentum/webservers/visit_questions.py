"""Addresses that applications ask about, as requests that are tried on a web server's configuration."""

from collections.abc import Iterable, Iterator

from fundamentum.model.surrounding_facts import Visit

LIST = "/."
"""The list of the document root, if there is no index file."""
_FILES = ("x.txt", "x.php", "x")
_RANK = ("handed-out", "script", "unclear", "missing", "refused")


def tried(question: str) -> Iterator[tuple[str, bool]]:
    """Paths of requests, each with whether there is such a file.

    A question that ends with a slash is about the files of a directory, one that begins with ``=`` about one file,
    another one about a page of which there is no file.
    """
    if question == LIST:
        yield "/", True
    elif question.startswith("="):
        yield question[1:], True
    elif question.endswith("/"):
        yield from ((f"{question}{name}", True) for name in _FILES)
    else:
        yield question, False


def worst(visits: Iterable[Visit]) -> Visit:
    """What lets most be seen of several."""
    return min(visits, key=lambda visit: _RANK.index(visit.outcome))
