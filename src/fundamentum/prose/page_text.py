"""A page of HTML as lines."""

import re
from collections.abc import Iterator
from typing import Final

from lxml import etree, html

from fundamentum.prose.line import OF_LEVELS, Line, sentences

MAX_TAGS: Final = 100_000
_BLOCKS: Final = frozenset("p li td th tr div dt dd h1 h2 h3 h4 h5 h6 br pre section article ul ol table body".split())
_HEADINGS: Final = frozenset("h1 h2 h3 h4 h5 h6 th caption legend summary".split())
_TERM: Final = "dt"
"""A term, which is told with what is said of it as one line."""
_LISTS: Final = frozenset({"ul", "ol"})
_UNSEEN: Final = frozenset("script style head template svg nav noscript".split())


def of_page(text: str) -> Iterator[Line]:
    """The sentences of a page; none of one that is none, or has more elements than pages have."""
    if text.count("<") > MAX_TAGS:
        return
    try:
        tree = html.document_fromstring(
            text.encode(), parser=html.HTMLParser(encoding="utf-8", huge_tree=False, no_network=True)
        )
    except (etree.ParserError, etree.XMLSyntaxError, ValueError):
        return
    reading = _Reading()
    for event, node in etree.iterwalk(tree, events=("start", "end")):
        tag = node.tag if isinstance(node.tag, str) else ""
        if event == "start" and (tag in _UNSEEN or not tag):
            node.clear(keep_tail=True)
            continue
        if tag in _BLOCKS and not (tag in ("td", "th") and _in_row(node)):
            yield from reading.block(tag, node, begins=event == "start")
        if event == "start" and node.text:
            reading.parts.append(node.text)
        if event == "end" and node.tail:
            reading.parts.append(node.tail)


class _Reading:
    """What is known where the reading of a page has come to."""

    def __init__(self) -> None:
        self.parts: list[str] = []
        self.number, self.listed = 1, False
        self.heading = self.title = ""
        """The nearest heading; the nearest that is about more than a level."""
        self.headings: list[str] = []
        """Those above the lists that are open."""
        self.leading = self.term = ""
        """The last words before the place: ``You need these extensions:``"""

    def block(self, tag: str, node: etree._Element, *, begins: bool) -> Iterator[Line]:
        """What stood before a block's beginning or end."""
        words = re.sub(r"\s+", " ", " ".join(self.parts)).strip()
        self.parts.clear()
        if tag == _TERM and not begins:
            words, self.term = "", words.rstrip(":")
        elif self.term and words:
            words, self.term = f"{self.term}: {words}", ""
        if not begins and tag in _HEADINGS and words:
            plain = words.rstrip(":")
            level = OF_LEVELS.fullmatch(words) is not None
            self.title = self.title if level else plain
            self.heading = f"{self.title}: {plain}".removeprefix(": ") if level else plain
        yield from sentences(words, self.number, self.heading, self.listed)
        self.leading = words or self.leading
        if begins and tag in _LISTS:
            self._open_list()
        elif tag in _LISTS and self.headings:
            self.heading = self.headings.pop()
        self.number, self.listed = (node.sourceline or self.number), tag in ("li", "tr")

    def _open_list(self) -> None:
        self.headings.append(self.heading)
        above = self.term or (self.leading[:-1] if self.leading.endswith(":") else "")
        self.heading, self.term = f"{self.heading}: {above}" if above else self.heading, ""


def _in_row(node: etree._Element) -> bool:
    """Whether a cell is part of a row that is told as one line."""
    above = node.getparent()
    return above is not None and above.tag == "tr"
