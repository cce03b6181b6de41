"""A text as lines, each a sentence, an entry of a list or a row of a table, with the heading above it."""

import re
from collections.abc import Callable, Iterator, Sequence
from typing import Final

import msgspec
from lxml import etree, html

from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.marked_up import is_page, plain_rows

MAX_LINES: Final = 2000
MAX_LENGTH: Final = 600
MIN_WRAPPED: Final = 50
MAX_WRAPPED: Final = 100
"""Columns of a text that somebody has wrapped."""
MAX_TERM: Final = 40
MAX_TAGS: Final = 100_000
_BLOCKS: Final = frozenset("p li td th tr div dt dd h1 h2 h3 h4 h5 h6 br pre section article ul ol table body".split())
_HEADINGS: Final = frozenset("h1 h2 h3 h4 h5 h6 th caption legend summary".split())
_TERM: Final = "dt"
"""A term, which is told with what is said of it as one line."""
_LISTS: Final = frozenset({"ul", "ol"})
_UNSEEN: Final = frozenset("script style head template svg nav noscript".split())
_MARKUP: Final = lazy_regex(
    r"\*\*|__|``|`|(?<![\w*])\*(?=\w)|(?<=[A-Za-z0-9])\*(?![\w*])|(?<=\])\([^)]*\)|[\[\]]|</?[A-Za-z!][^<>]{0,200}>|:(?:ref|doc|code|file|php):"
)
_BULLET: Final = lazy_regex(
    r"^\s*(?!\*(?:\s+[\d*,/-]+){4}\s)(?:[-*+•‣◦▪·>|✓✔✗✘×☐☑☒❌✅⚠️❗]+|o(?=\s+[A-Z])|\(?\d{1,2}[.)]|\[[ xX!+*-]?\])\s+"
)
"""What stands before an entry of a list; five stars are the times of a scheduled program."""
_OF_LEVELS: Final = lazy_regex(
    r"\W*(?:required|mandatory|needed|necessary|minimum|minimal|optional|recommended|suggested|additional)"
    r"(?: (?:ones|extensions|modules|packages|components))?\W*",
    re.I,
)
"""Headings that tell how much something is needed, and what only with the one above them."""
_ASKING: Final = lazy_regex(r"^\w.{0,60}\b(?:requires|require|needs|need)\s*$")
"""How a line ends below which a list follows."""
_GOING_ON: Final = lazy_regex(r"\s+(?:with|including|plus|and|or)\b")
"""How a line begins that stands further in, and goes on with the one before."""
_SENTENCE: Final = lazy_regex(r"(?<=[.!?;])\s+(?=[A-Z(\"'])")
_COLUMNS: Final = lazy_regex(r"\s*\|?\s*:?-+:?\s*(?:\|\s*:?-+:?\s*)*\|?\s*")
"""The line below the names of a table's columns."""
_NUMBERED: Final = lazy_regex(r"\s*(?:\d{1,2}\.)+\s+[A-Z][A-Z &/,-]{4,50}")
_UNDERLINE: Final = lazy_regex(r"\s*([=\-~^\"#*+])\1{2,}\s*")


class Line(msgspec.Struct, frozen=True):
    """One sentence of a text."""

    text: str
    number: int
    """The line of the file, from 1 on."""
    heading: str = ""
    """The nearest heading above it."""
    listed: bool = False
    """Whether it is an entry of a list or a row of a table."""


def lines_of(data: bytes) -> list[Line]:
    """The lines of a text, in order."""
    text = "".join(c if c.isprintable() or c in "\n\t" else " " for c in data.decode("utf-8", "replace"))
    lines = _of_page(text) if is_page(text) else _of_text(plain_rows(text))
    return [line for line in lines if re.search(r"[A-Za-z]", line.text)][:MAX_LINES]


def _of_text(text: str) -> Iterator[Line]:
    """Plain text, Markdown, AsciiDoc or reStructuredText: wrapped lines of a paragraph or an entry are joined."""
    raw = text.expandtabs(4).splitlines()[: MAX_LINES * 2]
    title = ""
    """The nearest heading that is marked as one: not a sentence that ends with a colon."""
    heading, open_at, parts, listed = "", 0, list[str](), False
    leading: list[tuple[int, str]] = []
    """Entries that lead in a list below them: where they begin in their line, and what they say."""
    entry: list[tuple[int, str]] = []
    """The last entry."""
    columns = ""
    """The names of the columns of the table that is open."""
    goes_on = _going_on(raw)

    def closed() -> Iterator[Line]:
        above = ": ".join(filter(None, (heading, columns, *(said for _, said in leading))))
        yield from _sentences(" ".join(parts), open_at, above, listed)
        entry[:] = [(_indent(raw[open_at - 1]), " ".join(parts).rstrip(":"))] if listed and parts else entry
        leading.extend(entry if parts and parts[-1].endswith(":") else ())
        parts.clear()

    for number, line in enumerate(raw, 1):
        following = raw[number] if number < len(raw) else ""
        titled = re.match(r"(?:\s*#{1,6}|={1,6})\s+(.*?[A-Za-z].*?)\s*[#=]*$", line)
        underlined = (
            bool(line.strip()) and _UNDERLINE.fullmatch(following) is not None and not _UNDERLINE.fullmatch(line)
        )
        then = raw[number + 1] if not following.strip() and number + 1 < len(raw) else ""
        asking = _ASKING.search(line) is not None and _BULLET.match(then) is not None
        colon = (line.rstrip().endswith(":") or asking) and len(line) < 90 and not _BULLET.match(line)
        before_it = raw[number - 2] if number > 1 else ""
        before = before_it.strip()
        shouted = line.strip().isupper() and 3 < len(line.strip()) < 60 and not before and not _BULLET.match(line)
        shouted = shouted or (not before and not following.strip() and _NUMBERED.fullmatch(line) is not None)
        if "|" in line and "|" in following and _COLUMNS.fullmatch(following):
            yield from closed()
            columns = _plain(line)
        elif not line.strip() or _UNDERLINE.fullmatch(line):
            yield from closed()
            columns = "" if not line.strip() else columns
        elif titled or underlined or colon or shouted:
            yield from closed()
            leading.clear()
            entry.clear()
            columns = ""
            words = _plain(titled[1] if titled else line).rstrip(":")
            introduces = colon and not (titled or underlined or shouted)
            below = (introduces or _OF_LEVELS.fullmatch(words) is not None) and title
            title = title if below or introduces else words
            heading = f"{title}: {words}" if below else words
            yield Line(words[:MAX_LENGTH], number, words)
        elif _BULLET.match(line) or not parts or not (goes_on(before_it, line, listed) or _is_term(before_it, line)):
            yield from closed()
            while leading and _indent(line) <= leading[-1][0]:
                leading.pop()
            if entry and _BULLET.match(line) and _indent(line) > entry[0][0] and entry[0] not in leading:
                leading.append(entry[0])
            open_at, listed = number, _BULLET.match(line) is not None or "|" in line
            parts.append(_plain(line))
        elif _is_term(before_it, line) and len(parts) == 1:
            parts[0] += ":"
            parts.append(_plain(line))
        else:
            parts.append(_plain(line))
    yield from closed()


def _indent(line: str) -> int:
    return len(line) - len(line.lstrip())


def _is_term(before: str, line: str) -> bool:
    """Whether a line begins what is said of the term above it, as reStructuredText has it."""
    term = 0 < len(before) < MAX_TERM and before[0].isalnum() and before.rstrip()[-1:].isalnum()
    return term and _indent(line) > 1 and not _BULLET.match(line)


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
    line = _BULLET.sub("", line)
    return re.sub(r"\s+", " ", _MARKUP.sub("", line).replace("|", " ")).strip()


def _sentences(text: str, number: int, heading: str, listed: bool) -> Iterator[Line]:
    for part in _SENTENCE.split(text):
        if part.strip():
            yield Line(part.strip()[:MAX_LENGTH], number, heading, listed)


def _of_page(text: str) -> Iterator[Line]:
    if text.count("<") > MAX_TAGS:
        return
    try:
        tree = html.document_fromstring(
            text.encode(), parser=html.HTMLParser(encoding="utf-8", huge_tree=False, no_network=True)
        )
    except (etree.ParserError, etree.XMLSyntaxError, ValueError):
        return
    heading, parts, number, listed = "", list[str](), 1, False
    headings: list[str] = []
    """Those above the lists that are open."""
    leading = term = title = ""
    """The last words before the place: ``You need these extensions:``"""
    for event, node in etree.iterwalk(tree, events=("start", "end")):
        tag = node.tag if isinstance(node.tag, str) else ""
        if event == "start" and (tag in _UNSEEN or not tag):
            node.clear(keep_tail=True)
            continue
        row = tag in ("td", "th") and _in_row(node)
        if tag in _BLOCKS and not row:
            words = re.sub(r"\s+", " ", " ".join(parts)).strip()
            parts.clear()
            if tag == _TERM and event == "end":
                words, term = "", words.rstrip(":")
            elif term and words:
                words, term = f"{term}: {words}", ""
            if event == "end" and tag in _HEADINGS and words:
                above = "" if _OF_LEVELS.fullmatch(words) else words.rstrip(":")
                title = above or title
                heading = above or f"{title}: {words.rstrip(':')}".removeprefix(": ")
            yield from _sentences(words, number, heading, listed)
            leading = words or leading
            if event == "start" and tag in _LISTS:
                headings.append(heading)
                above = term or (leading[:-1] if leading.endswith(":") else "")
                heading, term = f"{heading}: {above}" if above else heading, ""
            elif tag in _LISTS and headings:
                heading = headings.pop()
            number, listed = (node.sourceline or number), tag in ("li", "tr")
        if event == "start" and node.text:
            parts.append(node.text)
        if event == "end" and node.tail:
            parts.append(node.tail)


def _in_row(node: etree._Element) -> bool:
    """Whether a cell is part of a row that is told as one line."""
    above = node.getparent()
    return above is not None and above.tag == "tr"
