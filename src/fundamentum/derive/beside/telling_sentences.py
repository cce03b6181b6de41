"""Which sentences of a document tell what an application requires.

They stand under a heading about requirements, in a document about nothing else, or say so themselves.
"""

import re
from typing import Final

from fundamentum.derive.beside.packaged import installs_packages
from fundamentum.prose.line import Line
from fundamentum.prose.readers.web_servers import SWITCHED_ON
from fundamentum.prose.statement import Statement

_HEADING: Final = re.compile(
    r"requir|prerequisite|dependenc|\byou(?:'ll| will)? need|before (?:you|installing)|system|compatib|"
    r"server|supported|environment|mandatory|recommend|optional|needed|minimum|extension|"
    r"vorausset|anforderung|requis|requeri|vereist|wymag|požad|krav|gereksinim|требован|要求|需求|要件|必要|环境|依赖|"
    r"\bPHP versions?\b",
    re.I,
)
_OF_REQUIREMENTS: Final = re.compile(r"requirement|prerequisit|hosting", re.I)
"""Names of documents that speak of nothing else."""
_OF_FEATURES: Final = re.compile(r"\W*(?:key |main )?features\b", re.I)
"""Headings of what there is, rather than what is needed."""
_OF_SETTINGS: Final = re.compile(r"settings|php\.ini|configur|limits|tuning", re.I)
"""Headings of what is set up for PHP."""
_ITSELF: Final = re.compile(
    r"\b(?:requires?|needs?|minimum|at least|supports?)\b.{0,60}\bPHP\b|"
    r"\b(?:requires?|needs?)\b.{0,40}\bextensions?\b|\bextensions? (?:is|are) (?:required|needed|mandatory)\b|"
    r"\bPHP ?[5-9][\d.]* (?:application|program|script|project)\b|"
    r"^(?:requires|requirements?|needs|optional(?:ly)?|recommended|prerequisites?|dependencies|(?:PHP )?extensions|"
    r"database(?: server)?)\b[^:]{0,30}:|\bPHP\b (?:from )?version (?:[<>=^~]{1,2} ?)?\d|"
    r"\b(?:server|web ?space|host(?:ing)?) with PHP\b|"
    r"\bPHP\b.{0,40}(?:(?:or|and) (?:later|higher|newer|above|up)\b|required|\d\+)|\bPHP\b.{0,30}\bextensions?\b|"
    r"\b(?:runs?|works?) (?:on|with|under)\b.{0,20}\bPHP\b|"
    r"\b(?:database|MySQL|MariaDB|PostgreSQL)\b.{0,40}\b(?:is|are) (?:required|needed|mandatory)\b",
    re.I,
)
_UNSURE: Final = re.compile(
    r"no longer|not (?:yet )?(?:been )?(?:tested|supported)|may work|dropped|end[- ]of[- ](?:life|support)|\bEOL\b|"
    r"if you(?:'re| are)? (?:use|using|need|run)|"
    r"(?:with|adds?|new|latest) support for PHP|(?:download|enable) .{0,20}PHP|"
    r"\bPHP ?[5-9][\d.]*(?:'?s)? ?\W{0,3}(?:#\[\w+\]\W )?(?:attributes?|features?|enums?|syntax|annotations?)\b",
    re.I,
)
"""Sentences about versions of PHP that ask for none."""
_NO_WISH: Final = re.compile(r"\A(?:if|when|unless)\b|\bread-only\b", re.I)
"""Advice for a case that need not be; and what is said to be as it is."""
_OF_PHP: Final = re.compile(r"\bPHP\b(?!\w)", re.I)
_LIMIT_OF_PHP: Final = re.compile(
    r"\b(?:memory limit|max(?:imum|\.)? (?:script )?execution time|max(?:imum|\.)? input (?:vars|time)|post max size|"
    r"upload max file ?size)\b",
    re.I,
)
"""Limits that under a heading about requirements are PHP's, in words."""
_FOR_DEVELOPERS: Final = re.compile(
    r"develop|contribut|test|build|docker|upgrad|changelog|^changes\b|what'?s new|not yet released|roadmap|translat",
    re.I,
)


def tells(line: Line, path: str, statement: Statement) -> bool:
    """Whether what a sentence of a document was understood as is something that the application requires."""
    if _FOR_DEVELOPERS.search(line.heading):
        return False
    kind = statement.table[0]
    # A version on which it does not run, and nothing else, is told by a sentence that speaks of no requirement.
    refused = kind == "php" and statement.key == "version" and re.match(r"<\d", str(statement.value))
    if refused or (kind == "web" and SWITCHED_ON.search(line.text)):
        return True
    if kind == "php" and _UNSURE.search(line.text):
        return False
    if kind == "directories" and _NO_WISH.search(line.text):
        return False
    if kind in ("tasks", "directories"):
        return True  # these say what they are about by themselves
    of_php = _OF_PHP.search(f"{line.heading}: {line.text}") or (
        _OF_REQUIREMENTS.search(line.heading) and _LIMIT_OF_PHP.search(line.text)
    )
    if kind == "settings" and statement.key not in line.text and not of_php:
        return False  # another program's, or the application's own
    if kind == "settings" and (
        _OF_SETTINGS.search(line.heading) or "php.ini" in line.text or line.text.startswith(("Set ", "set ", "Raise "))
    ):
        return True
    if kind == "extensions" and _OF_FEATURES.match(line.heading) and not _OF_REQUIREMENTS.search(line.text):
        return False
    named = _OF_REQUIREMENTS.search(path.rpartition("/")[2]) is not None or installs_packages(line.text)
    return bool(named or _HEADING.search(line.heading) or _ITSELF.search(line.text) or _ITSELF.search(line.heading))
