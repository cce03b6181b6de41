"""Directives of php.ini: *memory_limit must be at least 256M*, *set max_execution_time to 300*, *file_uploads = On*."""

import re
from collections.abc import Iterator
from functools import cache
from typing import Final

from fundamentum.catalog import HARVESTED, directive_gone, facts, is_sized, is_switch
from fundamentum.catalog.words import said
from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import Line
from fundamentum.prose.statement import Statement, level_of

_NUMBER: Final = lazy_regex(
    r"(?<![\w.])(?<!\w-)(-?\d{1,12}(?:\.\d{1,3})?)\s*(bytes?|[KMG](?:i?B|bytes?|egabytes?|igabytes?)?|seconds?|secs?|s|minutes?|min)?(?![\w.]*\w)",
    re.I,
)
_PRESENT: Final = lazy_regex(
    r"\b(?:current(?:ly)?(?: (?:value|set|setting)?)?(?: (?:is|to))?|(?:is|are) (?:set to|only|currently)|found|"
    r"detected|have|"
    r"your (?:value|setting|limit) is|actual(?:ly)?|now|instead of|was|is)\b[\s:=]*(?=-?\d)",
    re.I,
)
_LEAST: Final = lazy_regex(
    r"(?:>=|≥|=>|→|->|⇒|at least|minimum(?: of| value)?(?: is)?|min\.?|should be(?: set to)?|must be(?: set to)?|has "
    r"to be|needs? to be|"
    r"requires?d?|recommended(?: value)?(?: is)?|"
    r"(?:higher|more|greater|larger) than|increase(?: it| this)?(?: to)?|raise(?: it)?(?: to)?|set(?: it|"
    r" this)? to|to|or more|or higher|=|:)"
    r"[\s:]*(?:at least |a minimum of )?(?=-?\d)",
    re.I,
)
_ON: Final = lazy_regex(
    r"\b(?:must be |should be |has to be |needs to be |to be |be |set to |turn(?:ed)? |=\s*|:\s*)?(?:on|"
    r"enabled?|activated|true|yes)\b",
    re.I,
)
_OFF: Final = lazy_regex(
    r"\b(?:must not be|should not be|be off|disabled?|turn(?:ed)? off|off|deactivated|false|=\s*0|set to 0)\b", re.I
)
_SET: Final = lazy_regex(
    r"\b(?:must be set|should be set|not set|is not set|has to be set|be defined|not configured|is empty)\b", re.I
)
_UNSET: Final = lazy_regex(
    r"\b(?:must be empty|should be empty|be unset|must not be set|should not be set|no value|in effect)\b", re.I
)
_NOT_BORNE: Final = lazy_regex(r"\bnot (?:be )?(?:supported|allowed|possible)\b|\b(?:not|n't) work\b", re.I)
_ERRORS: Final = (
    (r"allowed memory size of (\d{1,15}) bytes exhausted", "memory_limit", ">"),
    (r"maximum execution time of (\d{1,9}) seconds? exceeded", "max_execution_time", ">"),
    (r"content-length of (\d{1,15}) bytes exceeds the limit", "post_max_size", ">="),
    (r"\b(\d{1,6} ?[KMG])i?B? of PHP memory", "memory_limit", ">="),
    (r"\bPHP\b.{0,20}\ballowed to use (?:at least )?(\d{1,6} ?[KMG])", "memory_limit", ">="),
)
"""What PHP itself says where a limit is reached, the limit that is too low or what was sent; and what names none."""
_NOT_ON: Final = lazy_regex(
    r"\b(?:do not|don't|never|not to|must not|should not) (?:enable|activate|turn on|switch on)\b", re.I
)
_NOT_OFF: Final = lazy_regex(
    r"\b(?:do not|don't|never|not to|must not|should not) (?:disable|deactivate|turn off|switch off)\b", re.I
)
_OR_ELSE: Final = lazy_regex(r"\bor (?:else )?(?:install|use|load)\b", re.I)
"""What comes behind a setting that is one way of several: *enable allow_url_fopen or install cURL*."""
_MORE_THAN: Final = lazy_regex(r"\b(?:higher|more|greater|larger) than\s*$", re.I)
_SO_IT_IS: Final = lazy_regex(r"\bis (?:currently )?set to\s*$", re.I)
_TO_BE: Final = lazy_regex(r"\b(?:make sure|ensure|verify|check|must|should|that)\b", re.I)


def read(line: Line) -> Iterator[Statement]:
    """Each directive that a line names with what it must be."""
    level = "recommended" if _OR_ELSE.search(line.text) else level_of(line)
    for shape, name, sign in _ERRORS:
        if match := re.search(shape, line.text, re.I):
            yield Statement(("settings", "required"), f"{sign} {match[1].replace(' ', '').upper()}", name)
            return
    named = list(_named(line.text))
    shared: str | None = None
    statements: list[Statement] = []
    for at in reversed(range(len(named))):
        _, end, name = named[at]
        until = named[at + 1][0] if at + 1 < len(named) else len(line.text)
        between = line.text[end:until]
        if _TO_BE.search(line.text, 0, named[at][0]):
            between = re.sub(r"^(\W*)is set to\b", r"\1set to", between)
        condition = (
            _contrary(name, line.text[: named[at][0]], between)
            or _condition(name, between)
            or (_condition(name, re.split(r"[,;]\s", line.text[: named[at][0]])[-1]) if len(named) == 1 else None)
        )
        if condition is None and re.fullmatch(r"[\"'`\s]*(?:,|and|&|/|or)\s*[\"'`]*", between, re.I):
            condition = shared  # as of the one behind it
        shared = condition
        if condition:
            statements.insert(0, Statement(("settings", level), condition, name, level))
    yield from statements


def _named(text: str) -> Iterator[tuple[int, int, str]]:
    taken = 0
    for match in _words().finditer(text):
        if match.start() >= taken:
            taken = match.end()
            yield match.start(), match.end(), said("directives").get(match[0].lower(), match[0].lower())


@cache
def _words() -> re.Pattern[str]:
    known = {name for branch in HARVESTED for name in facts(branch).directives if "_" in name or "." in name}
    known |= {"register_globals", "safe_mode", "magic_quotes_gpc", "magic_quotes_runtime", "precision"}
    shapes = sorted((re.escape(name) for name in (*known, *said("directives"))), key=len, reverse=True)
    return re.compile(rf"(?<![\w.$-])(?:{'|'.join(shapes)})(?![\w-]|\.\w)", re.I)


def _contrary(name: str, before: str, behind: str) -> str | None:
    """What a switch is to be, where a complaint tells what it is: *X is enabled in php.ini*, *PHP has disabled X*."""
    if not is_switch(name) and directive_gone(name, HARVESTED[-1]) is None:
        return None
    done = _DONE.search(before)
    state = done[1] if done else ""
    if done and state.lower() == "set":
        state = told[1] if (told := _SET_TO.match(behind)) else ""
    elif not done and not _TO_BE.search(before) and (match := _IS.match(behind)) and not _TO_BE.search(behind):
        state = match[1]
    return None if not state else "off" if _STATE_ON.fullmatch(state) else "on"


_DONE: Final = lazy_regex(r"\b(?:has|have|you) (set|disabled|enabled|turned on|turned off)\s+[\"'`“«]?\Z", re.I)
"""How a sentence goes that tells what somebody has done to the setting that follows."""
_SET_TO: Final = lazy_regex(r"[\"'`”»]?\s+to\s+[\"'`“«]?(on|off|true|false|0|1|enabled|disabled)\b", re.I)
_IS: Final = lazy_regex(
    r"[\"'`”»]?\s+(?:is|are|was|has been) (?:currently |still |set to )?"
    r"[\"'`“«]?(on|off|true|false|enabled|disabled)\b(?!\W*\Z)",
    re.I,
)
_STATE_ON: Final = lazy_regex(r"on|true|1|enabled|turned on", re.I)


def _condition(name: str, text: str) -> str | None:
    text = _NOT_ON.sub("disable", _NOT_OFF.sub("enable", text))
    switch = is_switch(name) or directive_gone(name, HARVESTED[-1]) is not None
    if name == "date.timezone":
        return "zone"
    if name in ("disable_functions", "disable_classes"):
        word = re.search(r"\b([a-z_]+)\(\)|(?:contain|include|list|without|lacks?)s?\b.*?\b([a-z]+_?[a-z]+)\b", text)
        return f"lacks {word[1] or word[2]}" if word else "unset" if _UNSET.search(text) else None
    if number := _number(name, text):
        return number if not switch else {"0": "off", "1": "on"}.get(number.removeprefix(">= "))
    if _UNSET.search(text) or (name == "open_basedir" and (_OFF.search(text) or _NOT_BORNE.search(text))):
        return "unset"
    if (
        switch
        and _OFF.search(text)
        and not re.search(r"\b(?:should|must|has to|needs to) be (?:\w+ )?(?:to )?(?:on|enabled|1|true)\b", text, re.I)
        and not re.search(r"is (?:off|disabled)\b.*\b(?:must|should|need|enable)|is disabled[.!]?$", text, re.I)
    ):
        return "off"
    if switch and (_ON.search(text) or re.search(r"is (?:off|disabled)", text, re.I)):
        return "on"
    if not switch and (word := _WORD.match(text)) and not _defaults_to_a_number(name):
        return f"= {word[1]}"
    return "set" if _SET.search(text) and not switch else None


_WORD: Final = lazy_regex(
    r"[\"'`\s]*(?:=|:|(?:should|must|has to|needs to) be(?: set to)?|set to|"
    r"to)\s*[\"'`]?(?!(?:writ|read)e?able|valid|exist|accessible|present|there)([A-Za-z][\w./-]*\w)[\"'`]?\s*[.,;!]*\s*$"
)


def _defaults_to_a_number(name: str) -> bool:
    defaults = (facts(branch).directives.get(name) for branch in HARVESTED)
    return any(default is not None and default.default[:1].isdigit() for default in defaults)


def _number(name: str, text: str) -> str | None:
    """The number that is asked for, rather than the one that is there."""
    numbers = list(_NUMBER.finditer(text))
    if compared := re.search(r"-?\d+\s*[KMG]?B?\s*<\s*(?=\d)", text, re.I):  # 8M < 64M: the larger is asked for
        numbers = [match for match in numbers if match.start() >= compared.end()][:1]
    present = {match.end() for match in _PRESENT.finditer(text)}
    wanted = [match for match in numbers if match.start() not in present or _preceded(text, match.start())]
    asked = [match for match in wanted if _preceded(text, match.start())] or wanted
    if not asked:
        return None
    best = asked[-1] if len(asked) > 1 and _preceded(text, asked[-1].start()) else asked[0]
    value, unit = best[1], (best[2] or "").lower()
    if unit.startswith("min"):
        value = str(int(float(value) * 60))
    letter = unit[:1].upper() if unit[:1] in ("k", "m", "g") and not unit.startswith("min") else ""
    if "." in value:
        value, letter = str(int(float(value) * 1024)), {"G": "M", "M": "K"}.get(letter, letter)
    if is_sized(name) and not letter and 0 < int(value) < 2048:
        letter = "M"
    return f"{'>' if _MORE_THAN.search(text, 0, best.start()) else '>='} {value}{letter}"


def _preceded(text: str, at: int) -> bool:
    if _SO_IT_IS.search(text, 0, at) and not _TO_BE.search(text, 0, at):
        return False
    return any(match.end() == at for match in _LEAST.finditer(text)) and not any(
        match.end() == at and not re.search(r"should|must|need", match[0], re.I)
        for match in _PRESENT.finditer(text)
        if re.search(r"current|found|detect|actual|only|now|was|instead", match[0], re.I)
    )
