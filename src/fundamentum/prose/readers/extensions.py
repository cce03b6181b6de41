"""Extensions: *the mbstring extension is missing*, *ext-intl*, *GD or Imagick*, *undefined function mb_substr()*."""

import re
from collections.abc import Iterator
from functools import cache
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog import HARVESTED, canonical, catalogued
from fundamentum.catalog.symbols import EVERYWHERE, known_extensions, own_extensions, providers
from fundamentum.catalog.words import said
from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import Line
from fundamentum.prose.statement import ASKING, GD_OR_MAGICK, LATER, VERSION, Statement, installs_packages, level_of

_CONTEXT: Final = lazy_regex(
    r"\b(?:extensions?|modules?|extensiones|erweiterung(?:en)?|ext-|PHP-|pecl|library|libraries|drivers?|support)\b|\.so\b|\.dll\b|"
    r"\blibs\b|\benabled in php\.ini|\bPHP\b.{0,12}\b(?:functions|funktionen|fonctions|funzioni)\b|"
    r"\bPHP\W{0,5}\d[\d.]*\S{0,3} (?:(?:or|to|-|–) \w[\w.]{0,9} )?(?:\w{1,10} )?"
    r"(?:with\b|\((?:with|including|[\w-]+(?:,| &| and) [\w,& -]{1,80}\)))",
    re.I,
)
_PLAIN_WORDS: Final = frozenset(
    "date filter hash session standard core tokenizer xml dom ftp zip calendar event ds ev uv tidy soap stats "
    "sync mysql http rar decimal stem trader vips snappy dio eio yar "
    "svn libxml couchbase cassandra zookeeper mosquitto opentelemetry phalcon".split()
)
"""Extensions that are words of everyday's language too."""
_RARE: Final = frozenset("http decimal dio ds eio ev event rar snappy stats stem svn sync trader uv vips yar".split())
"""Those of them that hardly anybody means, unless they are written as extensions are."""
_OF_APACHE: Final = lazy_regex(r"\bApache(?:'s)? [\"'`]?\Z", re.I)
_EITHER: Final = lazy_regex(
    r"\beither\b.{0,40}\b(?:bcmath|gmp|imagick|mbstring|mysqli|intl|sodium|apcu|exif|pdo_\w+)\b", re.I
)
"""A choice between extensions, one of which is nothing else."""
_EXTENSION: Final = lazy_regex(r"\bextension", re.I)
_LIBRARIES: Final = frozenset({"libcurl", "libsodium"})
"""Libraries that in a list of extensions stand for these."""
_UNMISTAKABLE: Final = frozenset(
    "apcu bcmath ctype exif fileinfo gmp imagick intl mbstring mysqli opcache pcntl pdo_mysql pdo_pgsql pdo_sqlite "
    "simplexml "
    "sodium sqlite3 tokenizer xmlreader xmlwriter".split()
)
"""Extensions that are nothing else, and need no word beside them."""
_OF_PHP: Final = lazy_regex(r"\bPHP|\bext(?:ension)?s?\b|\bmodules?\b|undefined|missing|loaded", re.I)
"""Without a word of these, capitals are no extension's: *React DOM*."""
_STATUS: Final = lazy_regex(
    r"\b(?:missing|installed|enabled?|loaded|required?s?|needed|recommended|optional(?:ly)?|suggested|available|"
    r"not found|fail(?:ed)?)\b",
    re.I,
)
_ITEM: Final = lazy_regex(r"[^,;:|/()&]+")
_JOINED: Final = lazy_regex(r"\s(?:and|or|und|oder|et|ou)\s", re.I)
"""What stands between the names of an enumeration, beside commas and the like."""
_SERVERS: Final = frozenset({"mysql", "redis", "memcached", "memcache"})
"""Extensions whose names are those of the servers that they speak to."""
_ROW: Final = lazy_regex(r"[\"'`)]*\s*(?::|\.{2,}|=>|->|-)\s*(?:no|missing|not|fail|disabled|absent|n/a|✗|✘|❌)", re.I)
"""The rest of a line that an installer writes for each of its checks."""
_BEGINNING: Final = lazy_regex(r"\s*(?:\[?(?:error|fail(?:ed|ure)?|critical|warn(?:ing)?|notice)\]?:?\s+)?", re.I)
_WITH_BOTH: Final = lazy_regex(r"\bPHP\b[^,;]{0,20}\bwith\s+[\"'`]?(\w+)[\"'`]?\s+(?:and|&)\s+[\"'`]?(\w+)", re.I)
_VERSION_FIRST: Final = lazy_regex(r"PHP\W{0,3}\d[\d.]*\+?(?: or \w+)?\s*,", re.I)
"""``PHP 7.4+, GD, curl``"""
_DRIVER_FOR: Final = lazy_regex(r"\bdrivers? for [^().;]*$", re.I)
"""What follows is a database."""
_MARK: Final = r"(?:php\d?(?:\.\d)?-(?:pecl-)?|ext[-/]|pecl-|php_|--(?:enable|with)-|extension=)"
"""What stands in front of a name as package managers, manifests, php.ini and PHP's own build have it."""
_ABSENT: Final = lazy_regex(
    r"\b(?:must not be|should not be|may not be(?! able)|not compatible|incompatible|conflicts?|disable|deactivate|"
    r"remove|uninstall|"
    r"turn off|must be disabled|switched off)\b",
    re.I,
)
_ELSE: Final = lazy_regex(r"\b(?:otherwise|or else|if not|without (?:it|them|this)|neither)\b", re.I)
"""What stands in front of what happens where something is missing."""
_NOT_NEEDED: Final = lazy_regex(
    r"\b(?:no longer|not|never|n't)\s+(?:be\s+|been\s+)?(?:needed|required?|necessary|needs?|mandatory)\b|"
    r"\bsupport (?:was|has been|is) (?:dropped|removed)\b|"
    r"\bwithout (?:the )?(?:need|requirement)\b|\b(?:extension|module) (?:does not|doesn't) support\b",
    re.I,
)
_STILL_OF_USE: Final = lazy_regex(r"recommend|optional|suggest|useful|prefer|improve|faster|nice", re.I)
_UNDEFINED: Final = lazy_regex(r"undefined function:?\s+[\\\"'`]*([A-Za-z_]\w*)", re.I)
_CLASS: Final = lazy_regex(r"\bclass [\"'`\\]*([A-Za-z_]\w*)[\"'`]*\s+(?:not found|does not exist|is missing)", re.I)
_DATABASE: Final = lazy_regex(
    r"\beither mysql\b|\bmysql\b[^,;]{0,20}(?:\bor|/) ?(?:postgres|sqlite|maria|oracle)|"
    r"\b(?:postgres\w*|sqlite|mariadb|oracle)\b[^,;]{0,20}(?:\bor|/) ?mysql\b",
    re.I,
)
"""MySQL as one of several databases, rather than the extension of that name."""
_ADDRESS: Final = lazy_regex(r"\bhttps?://\S+", re.I)
_NO_DRIVER: Final = lazy_regex(r"could not find driver", re.I)


def read(line: Line) -> Iterator[Statement]:
    """The extensions that a line names, each or any one of several; and those it wants gone."""
    line = replace(line, text=_ADDRESS.sub("", line.text))
    text, level = line.text, level_of(line)
    for shape, kind in ((_UNDEFINED, "function"), (_CLASS, "class")):
        for match in shape.finditer(text):
            bringing = [provider.extension for provider in providers(kind, match[1])]  # type: ignore[arg-type]
            if bringing and bringing[0] not in EVERYWHERE:
                yield Statement(("extensions", level), " | ".join(dict.fromkeys(bringing)), level=level)
    if _NO_DRIVER.search(text):
        yield Statement(("extensions", level), "pdo_mysql | pdo_pgsql | pdo_sqlite", level=level)
    needless = _NOT_NEEDED.search(text) and not _STILL_OF_USE.search(text)
    named = list(_named(line)) if not needless else []
    if not named:
        return
    if _ABSENT.search(_ELSE.split(text)[0]):
        yield from (Statement(("extensions", "absent"), name) for _, _, name in named)
        return
    for group in _grouped(named, text):
        yield Statement(("extensions", level), group, level=level)


def _named(line: Line) -> Iterator[tuple[int, int, str]]:
    """Where which extensions are named in a line: begin, end, name."""
    led = ASKING.search(line.heading) is not None and _VERSION_FIRST.match(line.text) is not None
    about = led or any(shape.search(line.text) is not None for shape in (_CONTEXT, _EITHER, GD_OR_MAGICK))
    status = _STATUS.search(line.text) is not None
    packages = installs_packages(line.text)
    in_list = bool(re.search(r"extension|module|: \W*PHP\b[^:]*$", line.heading, re.I))
    enumerated = _enumerated(line)
    taken = 0
    for match in _words().finditer(line.text):
        word = match[0].lower()
        bare = re.sub(rf"^{_MARK}", "", word)
        name, marked = said("extensions").get(word) or canonical(re.sub(r"[ -]", "_", bare)), bare != word
        name = said("extensions").get(name, name)
        alone = in_list and (line.listed or len(line.text) < 60)
        alone = alone or (_ROW.match(line.text, match.end()) is not None and _begins_at(line, match.start()))
        nothing_else = name in _UNMISTAKABLE and name == canonical(bare)
        first = line.listed and _begins_at(line, match.start()) and ASKING.search(line.heading) is not None
        alone = alone or (nothing_else and (status or first)) or match.start() in enumerated
        if (
            (bare in _LIBRARIES and not (_EXTENSION.search(line.text) or (in_list and _begins_at(line, match.start()))))
            or _OF_APACHE.search(line.text, 0, match.start())
            or match.start() < taken
            or _DRIVER_FOR.search(line.text, 0, match.start()) is not None
            or not (marked if packages else about or marked or alone)
            or not _is_meant(name, match[0], line, marked or alone)
        ):
            continue
        taken = match.end()
        yield match.start(), match.end(), name


def _enumerated(line: Line) -> set[int]:
    """Where names stand by themselves beside one that is an extension's and nothing else's: *imagick (faster), ldap*.

    A list of requirements may have a point for each: of *GD* and *cURL* alone nobody asks what is meant.
    """
    items: dict[int, str] = {}
    for item in _ITEM.finditer(_JOINED.sub(lambda word: ",".center(len(word[0])), line.text)):
        word = item[0].strip().strip("\"'`*.").lower()
        name = canonical(re.sub(r"[ -]", "_", word))
        if name in known_extensions() and name not in _SERVERS:
            items[item.start() + item[0].lower().index(word)] = name
    if not _UNMISTAKABLE.isdisjoint(items.values()):
        return set(items)
    asked = line.listed and ASKING.search(line.heading) is not None
    return {at for at, name in items.items() if asked and _begins_at(line, at) and name in ("gd", "curl")}


def _begins_at(line: Line, at: int) -> bool:
    """Whether a line begins at a place, or behind a mark: ``[ERROR] gd: No``."""
    return _BEGINNING.fullmatch(line.text[:at]) is not None


def _is_meant(name: str, word: str, line: Line, certain: bool) -> bool:
    """Whether a word that is everyday's too stands for the extension here."""
    if name == "mysql" and _DATABASE.search(line.text):
        return False
    behind = r"[\"'`]?\s+(?:PHP )?(?:extension|module|support|library)"
    shown = re.escape(word)
    status = rf"\b{shown}\b{behind}|(?:extension|module)s?:?\s+[\"'`]?{shown}\b"
    if name in _RARE and not (certain and word.islower()):
        return re.search(status, line.text, re.I) is not None
    if certain or name not in _PLAIN_WORDS:
        return True
    if word.isupper() and _OF_PHP.search(f"{line.heading}: {line.text}"):
        return True
    listed = re.search(
        r"\b(?:extensions?|modules?)\b[^.]*[:,]|\bwith:|\bPHP\b[^,;]{0,20}(?:\bwith\b[^.]*,|\(\w+(?:,| &| and) )",
        line.text,
        re.I,
    )
    pair = re.search(
        rf"\b(?:extensions|modules)\s+[\"'`]?(\w+)[\"'`]?,?\s+(?:and|&|or)\s+[\"'`]?{shown}\b", line.text, re.I
    )
    second = pair is not None and canonical(pair[1]) in known_extensions()
    ends = rf"\b{shown}\b[\"'`]?(?:,|\s+(?:and|or|&)\s)[^.;:]{{0,200}}\b(?:extensions|modules)\b"
    second = second or _beside_another(line.text)
    return bool(re.search(status, line.text, re.I) or re.search(ends, line.text, re.I) or listed or second)


def _beside_another(text: str) -> bool:
    """Whether PHP is asked for with two extensions, one of which is no common word: *PHP 8.1 with zip and gd*."""
    both = _WITH_BOTH.search(text)
    names = {canonical(both[1].lower()), canonical(both[2].lower())} if both is not None else set()
    return len(names) == 2 and names <= set(known_extensions()) and not names <= _PLAIN_WORDS


@cache
def _words() -> re.Pattern[str]:
    names = set(known_extensions()).union(*(catalogued(branch) for branch in HARVESTED)) | set(said("extensions"))
    names |= {"zend opcache", "mysql"}
    names -= {
        "standard",
        "core",
        "spl",
        "reflection",
        "cgi_fcgi",
        "ssl",
        "icu",
        "postgresql",
        "postgres",
        "sqlite",
        "libxml2",
    }
    shapes = sorted((re.escape(name).replace("_", "[_ -]?") for name in names), key=len, reverse=True)
    return re.compile(
        rf"(?<![\w./$-]){_MARK}?(?:{'|'.join(shapes)})(?![\w(\\]|/\d|-(?!extension|module|erweiterung)\w|\.(?!so\b|dll\b)\w)",
        re.I,
    )


_VERSION_OF: Final = lazy_regex(
    rf"[\"'`)\s]*(?:extension\s+|module\s+)?(?:,\s*(?=version))?(?:(>=|≥|version|v|at least)|\()?\s*{VERSION}{LATER}?"
)


_APART: Final = frozenset({"zip", "imagick"})
"""Extensions with versions of their own among those that builds of PHP have along."""


def _has_versions(name: str, word: str) -> bool:
    """Whether a version behind a name can be the extension's: not that of PHP, nor of a library beneath."""
    return (name not in own_extensions() or name in _APART) and not word.lower().startswith("image")


def _grouped(named: list[tuple[int, int, str]], text: str) -> Iterator[str]:
    """Names that are joined by *or* or a slash as alternatives of one entry; each with the version behind it."""
    any_of = re.search(r"\b(?:at least one|one|any) of\b|\b(?:n?either)\b", text, re.I)
    one_of_those = False
    groups: list[list[str]] = []
    end = -1
    for start, stop, name in named:
        between = text[end:start] if end >= 0 else ""
        joined = re.fullmatch(
            rf"(?:[\s\"'`]*{VERSION}{LATER}?)?[\"'`)»”\s]*(?:extension|module|library)?\s*"
            r"(?:,?\s*\(?\bor\b|/|\|)\s*(?:the |PHP )?[\"'`(«“\s]*",
            between,
            re.I,
        )
        version = _VERSION_OF.match(text, stop) if _has_versions(name, text[start:stop]) else None
        entry = f"{name} >= {version[2]}" if version and (version[1] or "." in version[2]) else _BRINGS.get(name, name)
        behind = any_of is not None and start > any_of.start()
        if groups and (joined or (behind and one_of_those)):
            groups[-1].append(entry)
        else:
            groups.append([entry])
        one_of_those = behind
        end = stop
    for group in groups:
        yield " | ".join(dict.fromkeys(group))


_BRINGS: Final = dict.fromkeys(("mysql", "mysqlnd"), "mysqli | pdo_mysql")
"""Packages that are called otherwise than the extensions they bring, of which one is meant: php-mysql"""
