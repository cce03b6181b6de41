"""Plain text, Markdown, AsciiDoc or reStructuredText as lines: what is wrapped is joined."""

import re
from collections.abc import Callable, Iterator, Sequence
from typing import Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import MAX_LENGTH, OF_LEVELS, Line, sentences
from fundamentum.prose.tables import COLUMNS

MAX_LINES: Final = 2000
MIN_WRAPPED: Final = 50
MAX_WRAPPED: Final = 120
"""Columns of a text that somebody has wrapped."""
MAX_TERM: Final = 40
MAX_HEADING: Final = 90
"""Characters of a line that ends with a colon and is one."""
_MARKUP: Final = lazy_regex(
    r"\*\*|__|``|`|(?<![\w*])\*(?=\w)|(?<=[A-Za-z0-9])\*(?![\w*])|(?<=\])\([^)]{0,500}\)|[\[\]]|</?[A-Za-z!][^<>]{0,200}>|:(?:ref|doc|code|file|php):"
)
_BULLET: Final = lazy_regex(
    r"^\s*(?!\*(?:\s+[\d*,/-]+){4}\s)(?:[-*+•‣◦▪·>|✓✔✗✘×☐☑☒❌✅⚠️❗]+|"
    r"o(?=\s+(?:[A-Z]|[a-z]+_[a-z]))|\(?\d{1,2}[.)]|\[[ xX!+*-]?\])\s+"
)
"""What stands before an entry of a list; five stars are the times of a scheduled program."""
_SCHEDULED: Final = lazy_regex(r"\s*(?:[\d*][\d*/,-]*\s+){5}\S")
"""How a line for cron begins."""
_ASKING: Final = lazy_regex(r"^\w.{0,60}\b(?:requires|require|needs|need)\s*$")
"""How a line ends below which a list follows."""
_LEADING: Final = lazy_regex(r"\W{0,4}[A-Z][\w'’/()-]*(?: [\w'’/()&-]+){0,5}\W{0,4}(?<![.;,!?])")
"""A few words on a line of their own, above a list."""
_GOING_ON: Final = lazy_regex(r"\s+(?:with|including|plus|and|or)\b")
"""How a line begins that stands further in, and goes on with the one before."""
_NUMBERED: Final = lazy_regex(r"\s*(?:\d{1,2}\.)+\s+[A-Z][A-Z &/,-]{4,50}")
_OF_VERSIONS: Final = lazy_regex(r"[<>≥]|\A\W*PHP[\s:]*+\d[\d\s.,/|–-]*+\Z")
"""What stands in capitals because PHP does: ``PHP >= 8.1``"""
_TITLE: Final = lazy_regex(r"(?:\s*#{1,6}|={1,6})\s+(?=\S)")
_UNDERLINE: Final = lazy_regex(r"\s*([=\-~^\"#*+])\1{2,}\s*")


def of_text(text: str) -> Iterator[Line]:
    """The sentences of a text; wrapped lines of a paragraph or an entry are joined."""
    yield from _Reading(text.expandtabs(4).splitlines()[: MAX_LINES * 2]).lines()


class _Reading:
    """What is known where the reading of a text has come to."""

    def __init__(self, raw: Sequence[str]) -> None:
        self.raw = raw
        self.heading = self.title = ""
        """The nearest heading; the nearest that is marked as one, and is about more than a level."""
        self.parts: list[str] = []
        """What has been read of the paragraph or entry that is open."""
        self.open_at, self.listed = 0, False
        self.leading: list[tuple[int, str]] = []
        """Entries that lead in a list below them: where they begin in their line, and what they say."""
        self.entry: list[tuple[int, str]] = []
        """The last entry."""
        self.columns = ""
        """The names of the columns of the table that is open."""
        self._goes_on = _going_on(raw)

    def lines(self) -> Iterator[Line]:
        """All sentences, in order."""
        for number, line in enumerate(self.raw, 1):
            following = self._at(number + 1)
            if "|" in line and "|" in following and COLUMNS.fullmatch(following.strip()):
                yield from self._closed()
                self.columns = _plain(line)
            elif not line.strip() or _UNDERLINE.fullmatch(line):
                yield from self._closed()
                self.columns = "" if not line.strip() else self.columns
            elif headed := self._heading(number, line):
                yield from self._closed()
                yield self._take_heading(number, *headed)
            else:
                yield from self._take(number, line)
        yield from self._closed()

    def _at(self, number: int) -> str:
        return self.raw[number - 1] if 0 < number <= len(self.raw) else ""

    def _closed(self) -> Iterator[Line]:
        above = ": ".join(filter(None, (self.heading, self.columns, *(said for _, said in self.leading))))
        yield from sentences(" ".join(self.parts), self.open_at, above, self.listed)
        if self.listed and self.parts:
            self.entry = [(_indent(self._at(self.open_at)), " ".join(self.parts).rstrip(":"))]
        if self.parts and self.parts[-1].endswith(":"):
            self.leading += self.entry
        self.parts.clear()

    def _heading(self, number: int, line: str) -> tuple[str, bool] | None:
        """The words of a heading, and whether it only introduces what follows; None: it is none."""
        following, before = self._at(number + 1), self._at(number - 1).strip()
        marked = _TITLE.match(line)
        titled = line[marked.end() :].rstrip().rstrip("#=").rstrip() if marked else ""
        underlined = _UNDERLINE.fullmatch(following) is not None
        entry = _BULLET.match(line) is not None
        shouted = line.strip().isupper() and 3 < len(line.strip()) < 60 and not before and not entry
        shouted = shouted and _OF_VERSIONS.search(line) is None
        shouted = shouted or (not before and not following.strip() and _NUMBERED.fullmatch(line) is not None)
        if re.search(r"[^\W\d_]", titled) or underlined or shouted:
            return _plain(titled or line).rstrip(":"), False
        below = following if following.strip() else self._at(number + 2)
        leading = not before and _LEADING.fullmatch(line.strip()) is not None
        asking = (leading or (_ASKING.search(line) and not following.strip())) and _BULLET.match(below)
        introduces = (line.rstrip().endswith(":") or asking) and len(line) < MAX_HEADING and not entry
        return (_plain(line).rstrip(":"), True) if introduces else None

    def _take_heading(self, number: int, words: str, introduces: bool) -> Line:
        self.leading.clear()
        self.entry.clear()
        self.columns = ""
        below = self.title and (introduces or OF_LEVELS.fullmatch(words) is not None)
        self.heading = f"{self.title}: {words}" if below else words
        self.title = self.title if below or introduces else words
        return Line(words[:MAX_LENGTH], number, words)

    def _take(self, number: int, line: str) -> Iterator[Line]:
        """A line that begins a paragraph or an entry, or goes on with one."""
        before, entry = self._at(number - 1), _BULLET.match(line) is not None
        term = _is_term(before, line)
        alone = entry or _SCHEDULED.match(line) is not None
        if alone or not self.parts or not (term or self._goes_on(before, line, self.listed)):
            yield from self._closed()
            while self.leading and _indent(line) <= self.leading[-1][0]:
                self.leading.pop()
            last = self.entry[0] if self.entry else None
            if last and entry and _indent(line) > last[0] and last not in self.leading:
                self.leading.append(last)
            self.open_at, self.listed = number, entry or "|" in line
        elif term and len(self.parts) == 1:
            self.parts[0] += ":"
        self.parts.append(_plain(line))


def _indent(line: str) -> int:
    return len(line) - len(line.lstrip())


def _is_term(before: str, line: str) -> bool:
    """Whether a line begins what is said of the term above it: further in, or behind a colon."""
    term = 0 < len(before) < MAX_TERM and before[0].isalnum() and before.rstrip()[-1:].isalnum()
    return term and (line.startswith(": ") or (_indent(line) > 1 and not _BULLET.match(line)))


def _going_on(raw: Sequence[str]) -> Callable[[str, str, bool], bool]:
    """Whether a line goes on with the one before.

    Paragraphs are wrapped at some width; what somebody pasted, a complaint on each line, is not.
    """
    width = max(map(len, raw), default=0)
    beginning = [line.lstrip()[:1] for line in raw if line.strip()]
    sentences = sum(letter.isupper() for letter in beginning) > 0.6 * len(beginning)

    def goes_on(before: str, line: str, listed: bool) -> bool:
        if (listed and line.startswith(" ")) or (_indent(line) > _indent(before) and _GOING_ON.match(line)):
            return True
        first = line.split(maxsplit=1)[0]
        anew = first[:1].isupper() and (sentences or before.rstrip()[-1:] in ".!?:")
        named = "_" in first or "(" in first or "/" in first
        full = len(before) + 1 + len(first) >= 0.85 * width
        return MIN_WRAPPED <= width <= MAX_WRAPPED and full and not anew and not named

    return goes_on


def _plain(line: str) -> str:
    line = _BULLET.sub("", line.removeprefix(": "))
    return re.sub(r"\s+", " ", _MARKUP.sub("", line).replace("|", " ")).strip()
