"""What an application's directory tells of its needs: as it was kept, or derived anew."""

from pathlib import Path

from fundamentum.cli.progress import Progress
from fundamentum.derive.application import cache
from fundamentum.derive.application.archive_names import is_archive
from fundamentum.derive.application.cache import Answer
from fundamentum.derive.application.listing import Listing, application_in
from fundamentum.entries import entry
from fundamentum.errors import InputError


def derived(directory: Path, *, fresh: bool = False) -> Answer:
    """What an application's directory tells of its needs.

    ``fresh``: read the directory even if nothing in it has changed.
    """

    if directory.is_file() and is_archive(directory):
        return _of_archive(directory)
    if not directory.is_dir():
        raise InputError(str(directory), "is no directory and no archive; name an application's directory")
    directory = Path(application_in(str(directory)))
    known = not fresh and cache.any_of(str(directory))
    if known and (answer := cache.recall(str(directory))) is not None:
        return answer
    listing = Listing(str(directory))
    answer = cache.recall_listed(listing) if known else None
    if answer is None:
        progress = Progress()
        try:
            result = entry("fundamentum.derive", "derive").derive_listed(listing, progress)
        finally:
            progress.end()
        answer = cache.answer(result, entry("fundamentum.derive", "needs_file").written(result))
    cache.remember(listing, answer)
    return answer


def _of_archive(path: Path) -> Answer:
    """What an archive tells, which is read anew each time."""
    with entry("fundamentum.derive.application", "archive").opened(path) as opened:
        progress = Progress()
        try:
            result = entry("fundamentum.derive", "derive").derive_listed(Listing(str(opened.root)), progress)
        finally:
            progress.end()
        result = result.with_remarks(opened.remarks)
        return cache.answer(result, entry("fundamentum.derive", "needs_file").written(result))
