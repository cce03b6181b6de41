"""The tables of a needs file that go beyond PHP itself, as values."""

from collections.abc import Callable, Iterator, Sequence
from typing import Final, Protocol, TypeVar

from fundamentum.errors import InputError
from fundamentum.model.surrounding_needs import PRODUCTS, CommandNeed, DatabaseNeed, LimitNeed, seconds, size, versioned
from fundamentum.model.value import Level, NotUnderstood
from fundamentum.model.versions import VersionRange
from fundamentum.needs.tables import CommandsTable, DatabaseTable, NeedsFile

_LEVELS: Final[tuple[Level, ...]] = ("required", "recommended")
_Need = TypeVar("_Need")


class _Failure(Protocol):
    """Makes the error for one place of the file."""

    def __call__(self, path: Sequence[str], what: str, value: str | None = None) -> InputError: ...


class _ByName(Protocol):
    """A table that holds what is needed by name, for each level."""

    required: dict[str, str]
    recommended: dict[str, str]


class AroundReader:
    """Reads these tables; every error names the line."""

    def __init__(self, error: _Failure) -> None:
        self.error = error

    def limits(self, file: NeedsFile) -> Iterator[LimitNeed]:
        """How much has to get through to the application."""
        uploads, requests, forms = file.uploads, file.requests, file.forms
        if uploads.largest is not None:
            amount = self.understood(size, ["uploads", "largest"], uploads.largest)
            yield LimitNeed("uploads:largest", amount, uploads.largest.strip(), uploads.level)
        if uploads.files is not None:
            yield LimitNeed("uploads:files", uploads.files, str(uploads.files), uploads.level)
        if requests.longest is not None:
            amount = self.understood(seconds, ["requests", "longest"], requests.longest)
            yield LimitNeed("requests:longest", amount, requests.longest.strip(), requests.level)
        if forms.fields is not None:
            yield LimitNeed("forms:fields", forms.fields, str(forms.fields), forms.level)

    def databases(self, table: DatabaseTable) -> Iterator[DatabaseNeed]:
        """Database servers, each entry with its alternatives."""
        for level, found in self._versioned("database", table, PRODUCTS):
            yield DatabaseNeed(found, level)  # type: ignore[arg-type]

    def commands(self, table: CommandsTable) -> Iterator[CommandNeed]:
        """Programs, each entry with its alternatives."""
        for level, found in self._versioned("commands", table, ()):
            yield CommandNeed(found, level)

    def _versioned(
        self, name: str, table: DatabaseTable | CommandsTable, known: tuple[str, ...]
    ) -> Iterator[tuple[Level, tuple[tuple[str, VersionRange], ...]]]:
        seen: set[tuple[str, ...]] = set()
        for level in _LEVELS:
            for entry in table.required if level == "required" else table.recommended:
                try:
                    found = versioned(entry, known)
                except NotUnderstood as error:
                    raise self.error([name, level], str(error), entry) from error
                names = tuple(one for one, _ in found)
                if names in seen:
                    raise self.error([name, level], f"'{entry}' is listed twice", entry)
                seen.add(names)
                yield level, found

    def entries(self, name: str, table: _ByName, made: Callable[[str, str, Level], _Need]) -> Iterator[_Need]:
        """What stands in a table by name, for each level."""
        seen: dict[str, Level] = {}
        for level in _LEVELS:
            for key, text in (table.required if level == "required" else table.recommended).items():
                place = [name, level, key]
                if key in seen:
                    raise self.error(place, f"'{key}' stands in [{name}.{seen[key]}] already")
                seen[key] = level
                try:
                    yield made(key, text, level)
                except NotUnderstood as error:
                    raise self.error(place, f"{key}: {error}" if key not in str(error) else str(error)) from error

    def understood(self, read: Callable[[str], int], place: list[str], text: str) -> int:
        """A number in words; the error names its place."""
        try:
            found = read(text)
        except NotUnderstood as error:
            raise self.error(place, str(error)) from error
        if found <= 0:
            raise self.error(place, f"'{text}' is nothing to hold against a limit")
        return found
