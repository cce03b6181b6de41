"""Which PHP: *PHP 8.1 or later*, *must be at least 8.1*, *your PHP is 7.4, but 8.1 is required*, *64-bit*."""

import re
from collections.abc import Iterator
from functools import cache
from typing import Final

from fundamentum.catalog.services import services
from fundamentum.catalog.words import said
from fundamentum.prose.line import Line
from fundamentum.prose.readers.preferred_php import preferred
from fundamentum.prose.statement import LATER, VERSION, Statement


def _shape(text: str) -> re.Pattern[str]:
    return re.compile(text, re.I)


_PHP: Final = r"(?:\bPHP\b(?:[ -](?:FPM|CLI|CGI)\b)?|\b(?-i:PHP)(?=\d))(?:[ -]?\(?versions?\b)?"
"""PHP in a sentence; ``PHP8.1`` in capitals, as ``php8.1-intl`` is the name of a package."""
_LEAST: Final = (
    r"(?:(?:>=|≥|=>|>|(?:greater|higher) than|ab(?: Version)?\b|at least|minimum(?: of| is)?|min\.?|from|newer than|"
    r"(?:or )?equal to|must be|of(?= version)|mindestens|mu(?:ss|ß)|in|auf|doit être|à la|"
    r"has to be|need(?:s|ed)?|requires?|is|now|version|:|\^|~)\s*)*"
)
_ASKS: Final = (
    r"(?:requires?d?|needs?|needed|at least|minimum|up(?:grade|date) to|must be|should be|has to be|>=|≥|(?:greater|"
    r"higher) than or equal to)"
)
_BETWEEN: Final = r"(?:\s*,\s*(?:(?:or|and)\s+)?|\s+(?:or|and)\s+|\s*[/|]\s*)(?:PHP )?"
_RANGE: Final = _shape(
    rf"{_PHP}[\s:(]*{_LEAST}{VERSION}\s*(?:-{{1,3}}|–|—|…|\.{{2,3}}|to|through|until|up to(?: and including)?|"
    rf"[,;/]?\s*(?:and |but )?(?:maximum|max\.?|at most)(?: is| of|:)?)\s*(?:PHP )?{VERSION}"
)
_OR_LATER: Final = _shape(LATER)
_BOUNDS: Final = _shape(rf"{_PHP}s?[\s:(]*between {VERSION} and (?:PHP )?{VERSION}")
_ONLY: Final = _shape(rf"{_PHP}[\s:(]*{VERSION} only\b|\bonly (?:with |on )?{_PHP}[\s:(]*{VERSION}(?!{LATER})")
_LOWEST: Final = _shape(
    rf"\b{VERSION}(?: is)?(?: the)? (?:minimum|required)\b.{{0,40}}|\bminimum\W{{0,3}}(?:of |is )?{VERSION}"
)
"""Of several versions that a sentence names, the one that it calls the least."""
_PAIR: Final = _shape(rf"{_PHP}[\s:(]*>=?\s*{VERSION}\s*(?:,|and|&{{1,2}}|\s)\s*(<=?)\s*{VERSION}")
_PAIR_TURNED: Final = _shape(rf"{_PHP}[\s:(]*(<=?)\s*{VERSION}\s*(?:,|and|&{{1,2}}|\s)\s*>=?\s*{VERSION}")
_LIST: Final = _shape(rf"{_PHP}s?[\s:(]*((?:{VERSION}{_BETWEEN})+{VERSION})(?!\s*(?:or|and) (?:later|higher|newer))")
_AFTER: Final = _shape(rf"{_ASKS}[^.;,]{{0,40}}?{_PHP}[\s:]*{_LEAST}{VERSION}")
_PLAIN: Final = _shape(rf"{_PHP}[\s:(]*{_LEAST}{VERSION}({LATER})?")
_SENT: Final = _shape(rf"{VERSION}{LATER}?[^.;]{{0,25}}\bis (?:required|needed|the minimum)")
_OF_PHP: Final = _shape(rf"\b(?:(?:version|release)\s*{_LEAST}{VERSION}{LATER}?|{VERSION}{LATER}) of {_PHP}")
_WORKS: Final = r"(?:supported|compatible|available|work(?:ing)?|run(?:ning)?)"
_ON: Final = rf"(?:yet )?(?:on|with|by|in|under) {_PHP}\s*{VERSION}(?: or PHP[\d. ]+)?"
_REFUSED: Final = tuple(
    map(
        _shape,
        (
            rf"\(?(?:{_PHP}\s*|(?<=\())v?{VERSION}{LATER}?\s+(?:is|are) not (?:yet )?supported(?: yet)?\)?",
            rf"\(?(?:\bincompatible|(?:\bnot|n't|\bcannot) (?:currently |yet )?(?:be )?{_WORKS}) {_ON}(?: yet\b)?\)?",
            rf"{_PHP}\s*{VERSION}{LATER}? support is not (?:yet )?(?:available|complete|ready|there)(?: yet)?",
        ),
    )
)
"""A version on which the application does not run: an older one, or a newer one."""
_AT_MOST: Final = _shape(
    rf"(?:{_PHP}[\s:(]*(?:must be |has to be |is )?(?:<=|≤|up to|until|at most|"
    rf"(?:(?:must|may|can|should) ?not be|is not|not?) (?:newer|later|higher) than|"
    rf"max(?:imum)?\b\.?(?: of| is|:)?)|\bmax(?:imum)?\b\.?(?: supported)? {_PHP}(?: is|:)?)\s*(?:PHP )?{VERSION}|"
    rf"{_PHP}[\s:(]*{VERSION} (?:or|and) (?:older|lower|earlier|below|less|prior)\b"
)
_NOT: Final = _shape(r"\b(?:not|no|never|cannot|un\w+)\b|n't\b")
_DROPPED: Final = _shape(rf"\bdrop(?:s|ped|ping)? (?:the )?support (?:for|of) {_PHP}\s*(<)?\s*{VERSION}")
_GONE: Final = _shape(
    rf"{_PHP}\s*(?:{VERSION}(?:, |,? and |,? or ))*{VERSION}"
    r"(?:\s+(?:and|or) (?:older|below|earlier|lower))?\s+(?:is|are) no longer supported"
)
_INSTEAD: Final = _shape(rf"\b(?:use|update to|upgrade to|install|switch to|needs?|requires?) (?:PHP )?{VERSION}")
_TOO_OLD: Final = _shape(rf"{_PHP}\W{{0,3}}{VERSION}\W{{0,3}} (?:is|ist) (?:too old|zu alt|outdated|veraltet)")
_AS_MOST: Final = _shape(rf"\bm[aá]xim\w*\s*=\s*{VERSION}")
_CAME_WITH: Final = _shape(
    rf"\b(?:bundled|included|built[- ]?in|part of PHP|removed|added|introduced|deprecated|available)\b[^.;,]{{0,20}}?"
    rf"\b(?:since|as of|from|in|with|on) {_PHP}\s*{VERSION}{LATER}?|\b(?:since|as of|seit) {_PHP}\s*{VERSION}|"
    rf"{_PHP}\s*{VERSION}{LATER}? (?:usually |already )?(?:comes? with|includes|ships with)\b"
)
"""When something came to PHP, or went: that asks for no version."""
_NEWS: Final = _shape(
    rf"{_PHP}\s*{VERSION} (?:is|are) (?:now|also|already) supported|{_PHP}\s*{VERSION}(?:\.x)? support\b(?! is not)|"
    rf"\b(?:adds?|added|with|new|latest|for) (?:support for|compatibility with) {_PHP}\s*{VERSION}{LATER}?|"
    rf"{_PHP}\s*{VERSION}(?:'s\b| (?:attributes|features?|functions|enums?|syntax|types?)\b)"
)
"""What is told of a later version, or what it has, without which the application does as well."""
_OF_OTHERS: Final = _shape(
    rf"{_PHP}\s*{VERSION} users?\b|\busers? (?:of|on|with|running) {_PHP}\s*{VERSION}|"
    rf"\b(?:still|stuck) (?:on|with|using|running) {_PHP}\s*{VERSION}|"
    rf"\b(?:for|on|with) {_PHP}\s*{VERSION},? (?:please )?(?:use|stay|keep|take|install) |"
    rf"\bif (?:you|your)\b[^.;]{{0,60}}?{_PHP}\s*{VERSION}{LATER}?|"
    rf"\b(?:use|take|install|download) (?:version|release|branch|the)\b[^;]{{0,60}}? for {_PHP}\s*{VERSION}|"
    rf"(?:not|n't) (?:yet |been )*(?:tested|tried|verified) (?:with|on|under|against) {_PHP}\s*{VERSION}"
)
"""Of whom another release of the application takes care, and what its makers have not tried."""
_OVER: Final = _shape(r"\bend[- ]of[- ]life\b|\bEOL\b")
_AS_LEAST: Final = _shape(
    rf"\b(?:m[iíì]n[ií]m\w*|м[иі]н[иі]мум|mindestens erforderlich)\s*=\s*{VERSION}|"
    rf"\bminimum required version\W{{1,3}}{VERSION}"
)
"""The least, in whatever language: *PHP versión 7.4 insuficiente (mínimo = 8.1)*."""
_BELOW: Final = _shape(
    rf"(?:\bbut|\band|,)\s+(?:below|less than|lower than|before|not(?: with| on)?|<)\s*(?:PHP )?{VERSION}"
)
_UP_TO: Final = _shape(
    rf"[,;(]\s*(?:and |but )?(?:up to|until|at most|max(?:imum)?\b\.?)\s*(?:PHP )?{VERSION}|"
    rf"[,;(]\s*(?:PHP )?{VERSION} (?:or|and) (?:older|lower|earlier|below)\b"
)
_OLDER: Final = _shape(rf"\bPHP\b.{{0,80}}?\bolder than\s*{VERSION}")
_REMARK: Final = _shape(r"\s*\([^()]{0,20}\b(?:recommended|preferred|tested|stable|supported|lts|beta)\)")
"""What stands behind one of several versions."""
_OF_HEADING: Final = _shape(r"(?:(?:minimum|required|supported) )?versions?\b")
"""How a line begins that is about what the heading above it names."""
_IS_PHP: Final = _shape(r"(?:.*: )?(?:required |minimum )?PHP(?: versions?)?")
_OF_VERSION: Final = _shape(
    r"(?:[>=^~]{0,2}\d[\d.x]{0,9}\+?|[>=^~]{1,2}|-|–|to|or|and|later|higher|newer|above|greater)"
)
"""A word of a line that names versions and nothing else."""
_FOUND: Final = _shape(r"\b(?:your|current(?:ly)?|detected|found|running|installed)\b")


def read(line: Line) -> Iterator[Statement]:
    """The condition on its version, and on its build."""
    text = line.text
    if (_OF_HEADING.match(text) or _only_versions(text)) and _IS_PHP.fullmatch(line.heading):
        text = f"PHP {text}"
    if re.search(r"\b64[- ]?bit\b", text, re.I) and re.search(r"\bPHP\b|system|platform|build|server", text, re.I):
        yield Statement(("php",), 64, "bits")
    if re.search(r"\b(?:non|not)[- ]thread[- ]safe\b|\bNTS\b", text, re.I):
        yield Statement(("php",), False, "thread_safe")
    elif re.search(
        r"\bPHP\b.*\b(?:must|has to|needs to) be thread[- ]safe\b|\bthread[- ]safe (?:build of )?PHP\b", text, re.I
    ):
        yield Statement(("php",), True, "thread_safe")
    for shape in (_CAME_WITH, _NEWS, _OF_OTHERS):
        text = shape.sub("", text)
    if re.search(_PHP, text, re.I) and (condition := _condition(text)) and not _only_advised(line, condition):
        yield Statement(("php",), condition + _limit(condition, text), "version")


def _limit(condition: str, text: str) -> str:
    """What a sentence adds to the least version, in front or behind: the first that is too new, or the last."""
    if not condition.startswith(">=") or "," in condition:
        return ""
    if below := _BELOW.search(text):
        return f", <{below[1]}"
    last = _UP_TO.search(text)
    return f", <={last[1] or last[2]}" if last and _plausible(last[1] or last[2]) else ""


def _only_advised(line: Line, condition: str) -> bool:
    """Whether nothing but the version that a line advises makes up a condition."""
    advised = preferred(line)
    return (
        advised is not None and condition.startswith(f">={advised[0].rstrip('+')}") and _condition(advised[1]) is None
    )


def _condition(text: str) -> str | None:
    for shape in _REFUSED:
        if match := shape.search(text):
            return _beside(match, _condition(f"{text[: match.start()]} {text[match.end() :]}"))
    if _OVER.search(text):
        return None
    if match := _AS_MOST.search(text):
        return f"<={match[1]}"
    if (match := _AS_LEAST.search(text)) and _plausible(least := match[1] or match[2]):
        return f">={least}"
    if match := _DROPPED.search(text):
        return f"{'>=' if match[1] else '>'}{match[2]}"
    if match := _GONE.search(text):
        instead = _INSTEAD.search(text, match.end())
        return f">={instead[1]}" if instead and _plausible(instead[1]) else f">{match[2]}"
    if match := _TOO_OLD.search(text):
        return f">{match[1]}"
    if match := _PAIR.search(text):
        return f">={match[1]}, {match[2]}{match[3]}"
    if match := _PAIR_TURNED.search(text):
        return f">={match[3]}, {match[1]}{match[2]}"
    if (match := _AT_MOST.search(text)) and _plausible(most := match[1] or match[2] or match[3]):
        return f"{'>' if _NOT.search(text, match.end()) else '<='}{most}"
    if (match := _ONLY.search(text)) and _plausible(only := match[1] or match[2]):
        return f">={only}, <={only}"
    if (match := _RANGE.search(text) or _BOUNDS.search(text)) and _plausible(match[1]) and _plausible(match[2]):
        return f">={match[1]}" if _OR_LATER.match(text, match.end()) else f">={match[1]}, <={match[2]}"
    lowest = _LOWEST.search(text) if "recommended" in text.lower() else None
    if lowest and _plausible(least := lowest[1] or lowest[2]):
        return f">={least}"
    if (match := _LIST.search(_REMARK.sub("", text))) and not _FOUND.search(text):
        versions = sorted(re.findall(r"\d+\.\d+", match[1]), key=lambda version: tuple(map(int, version.split("."))))
        if len(versions) > 1:
            return f">={versions[0]}, <={versions[-1]}"
    for shape in (_OLDER, _SENT, _near(), _AFTER):
        matches = [stated[1] for stated in shape.finditer(text) if _plausible(stated[1])]
        if matches:
            return f">={matches[-1]}"
    if (match := _OF_PHP.search(text)) and _plausible(stated := match[1] or match[2]) and not _FOUND.search(text):
        return f">={stated}"
    match = _PLAIN.search(text)
    if match and _plausible(match[1]) and (match[2] or not _FOUND.search(text)):
        return f">={match[1]}"
    return None


_FROM: Final = _shape(r">=([\d.]+)(?:, <=[\d.]+)?")
NEWER: Final = (8,)
"""Of a version that is refused, and nothing else: from this one on those are meant that are newer; it may be past."""


def _beside(refused: re.Match[str], asked: str | None) -> str | None:
    """A version on which it does not run, beside what the rest of the sentence asks for: it may be an older one."""
    first = refused[1]
    if asked is None:
        return f"<{first}" if " supported" in refused[0] or "yet" in refused[0] or _numbers(first) >= NEWER else None
    match = _FROM.fullmatch(asked)
    return f">={match[1]}, <{first}" if match and _numbers(first) > _numbers(match[1]) else asked


def _numbers(version: str) -> tuple[int, ...]:
    return tuple(map(int, version.split(".")))


@cache
def _near() -> re.Pattern[str]:
    """PHP and a version further on, with nothing between them that has versions of its own."""
    products = "|".join(map(re.escape, [*said("web_servers"), *services()]))
    other = rf"\b(?:extensions?|modules?|librar(?:y|ies)|drivers?|ext-|pecl|{products}|\w*sql\w*|mariadb)"
    return _shape(rf"{_PHP}(?:(?!{other})[^;]){{0,60}}?{_ASKS}[\s:]*{_LEAST}(?:PHP )?{VERSION}")


def _only_versions(text: str) -> bool:
    words = [word.strip(",.") for word in text.split()]
    numbered = bool(words) and re.search(r"\d\.\d", words[0]) is not None
    return numbered and all(_OF_VERSION.fullmatch(word) for word in words)


def _plausible(version: str) -> bool:
    """Whether it can be a version of PHP, which a number in a sentence about PHP need not be."""
    major = int(version.split(".", maxsplit=1)[0])
    return (major in (5, 7, 8, 9) and "." in version) or (major in (7, 8, 9) and "." not in version)
