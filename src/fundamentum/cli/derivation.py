"""What an application's directory tells of its needs: as it was kept, or derived anew."""

from pathlib import Path
from typing import TYPE_CHECKING

from fundamentum.cli.progress import Progress
from fundamentum.derive.application import cache
from fundamentum.derive.application.archive_names import is_archive
from fundamentum.derive.application.cache import Answer
from fundamentum.derive.application.listing import Listing, application_in
from fundamentum.entries import entry
from fundamentum.errors import InputError

if TYPE_CHECKING:
    from fundamentum.derive.result import Derived


def derived(directory: Path, *, fresh: bool = False, seconds: float | None = None) -> Answer:
    """What an application's directory tells of its needs.

    ``fresh``: read the directory even if nothing in it has changed.  ``seconds``: how long that may take; what was
    read in less, and not as a whole, is read again.
    """
    if directory.is_file() and is_archive(directory):
        return _of_archive(directory, seconds)
    if not directory.is_dir():
        raise InputError(str(directory), "is no directory and no archive; name an application's directory")
    directory = Path(application_in(str(directory)))
    known = not fresh and cache.any_of(str(directory))
    if known and (answer := cache.recall(str(directory))) is not None and _will_do(answer, seconds):
        return answer
    listing = Listing(str(directory))
    answer = cache.recall_listed(listing) if known else None
    if answer is None or not _will_do(answer, seconds):
        answer = _answer(_read(listing, seconds))
    # What cannot be read now, the next one to ask may be allowed to, and no time of a file tells.
    if not any(entry.places for entry in answer.derived().of_kind("unread")):
        cache.remember(listing, answer)
    return answer


def _will_do(kept: Answer, seconds: float | None) -> bool:
    """Whether what is kept need not be read again, though there may be more time for it."""
    return seconds is None or not kept.derived().of_kind("unread")


def _read(listing: Listing, seconds: float | None) -> "Derived":
    progress = Progress()
    patience = {} if seconds is None else {"patience": seconds}
    try:
        result: Derived = entry("fundamentum.derive", "derive").derive_listed(listing, progress, **patience)
        return result
    finally:
        progress.end()


def _answer(result: "Derived") -> Answer:
    return cache.answer(result, entry("fundamentum.derive", "needs_file").written(result))


def _of_archive(path: Path, seconds: float | None) -> Answer:
    """What an archive tells, which is read anew each time."""
    with entry("fundamentum.derive.application", "archive").opened(path) as opened:
        return _answer(_read(Listing(str(opened.root)), seconds).with_remarks(opened.remarks))
