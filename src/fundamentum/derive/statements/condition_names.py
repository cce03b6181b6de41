"""The names and words that a condition speaks of: ``$variable``, ``->property``, ``function()``, ``CONSTANT``."""

import re
from collections.abc import Collection, Iterable, Iterator
from typing import Final

from fundamentum.catalog.symbols import Kind, providers, span_in_php
from fundamentum.derive.families import words_for

_NAME: Final = re.compile(rb"(\$|->|::\$?|)([A-Za-z_]\w*)\s*(\(?)")
_WORDS_ASIDE: Final = frozenset(
    "isset empty if and or not true false null array count is_array new is_null in_array strtolower self static "
    "parent this is_string function_exists defined".split()
)


def names_in(written: bytes) -> Iterator[str]:
    """The names in a condition."""
    for sigil, word, call in _NAME.findall(written):
        name = word.decode("latin-1")
        if name.lower() in _WORDS_ASIDE:
            continue
        if call:
            yield name.lower() + "()"
        elif sigil == b"$":
            yield "$" + name
        elif sigil:
            yield "->" + name
        elif name.isupper():
            yield name


_ANSWER: Final = re.compile(
    rb"(?P<no>[\s(!]*+)(?:['\"]\w++['\"]\s*+(?P<turned>[!=])==?\s*+)?"
    rb"(?P<name>(?:\$\w++->|\\?\w++(?:\\\w++)*+::)?\w++(?:\(\s*+\))?)\s*+(?:(?P<sign>[!=])==?\s*+['\"]\w++['\"])?[\s)]*+"
)


def answers_no(written: bytes, positive: bool) -> str:
    """The one name whose answer is no where a condition holds, or does not (``positive``); empty: there is none.

    ``HAS_GMP`` does not hold, ``!$this->has_gmp()`` or ``!Sums::has_gmp()`` does, ``ENGINE === 'gmp'`` does not.
    """
    answer = _ANSWER.fullmatch(written)
    if answer is None:
        return ""
    denials = answer["no"].count(b"!") + (b"!" in (answer["sign"], answer["turned"]))
    names = [*names_in(answer["name"])] if positive == bool(denials % 2) else []
    return names[-1] if names else ""


_ASKS_ONE: Final = re.compile(
    rb"[\s(]*+(!?)\s*+\\?(function_exists|is_callable|class_exists|interface_exists)\s*\(\s*['\"]\\{0,2}([\w\\]+)['\"]\s*\)[\s)]*",
    re.I,
)


def always(written: bytes) -> bool | None:
    """What a condition comes to on every PHP: it asks for one thing alone, that PHP itself has.  None: it depends.

    ``if (function_exists('random_bytes')) ... else ...`` is written for branches that nobody has any more.
    """
    asked = _ASKS_ONE.fullmatch(written)
    if asked is None:
        return None
    kind: Kind = "class" if asked[2].lower().startswith((b"class", b"interface")) else "function"
    return not asked[1] if span_in_php(kind, asked[3].decode("latin-1")) == ("", "") else None


_OLDEST: Final = (7, 2)
"""The oldest branch that any system of today comes with, or is still kept with mends."""
_TEST: Final = re.compile(
    rb"[\s(]*+(?P<no>!?)[\s(]*+\\?(?:PHP_VERSION_ID\s*+(?P<sign>[<>]=?)\s*+(?P<number>\d{5,6})"
    rb"|PHP_MAJOR_VERSION\s*+(?P<sign_of_major>[<>]=?)\s*+(?P<major>\d)"
    rb"|version_compare\(\s*+(?:PHP_VERSION|phpversion\(\s*+\))\s*+,\s*+['\"](?P<version>\d[\d.]{0,10})['\"]\s*+"
    rb"(?:,\s*+['\"](?P<word>[<>]=?|[lg][te])['\"]\s*+\)|\)\s*+(?P<sign_of_zero>[<>]=?)\s*+0))[\s)]*+",
    re.I,
)
_TURNED: Final = re.compile(rb"(?<![\w.])(\d{1,6})\s*+([<>])(=?)\s*+(PHP_VERSION_ID|PHP_MAJOR_VERSION)\b")
_SIGNS: Final = {b"lt": b"<", b"le": b"<=", b"gt": b">", b"ge": b">="}


def _turned_back(test: re.Match[bytes]) -> bytes:
    """``70100 > PHP_VERSION_ID`` as ``PHP_VERSION_ID < 70100``"""
    return test[4] + (b"<" if test[2] == b">" else b">") + test[3] + test[1]


def holds_today(written: bytes) -> bool | None:
    """What one test of PHP's version comes to on every branch still about; None: it depends, or is none.

    ``PHP_VERSION_ID < 70100`` is written for branches that nobody has any more.
    """
    test = _TEST.fullmatch(_TURNED.sub(_turned_back, written))
    if test is None:
        return None
    if test["number"]:
        number = int(test["number"])
        tested = (number // 10000, number // 100 % 100)
    elif test["major"]:
        past = test["sign_of_major"] in (b">", b"<=")  # more than 7 is 8
        tested = (int(test["major"]) + past, 0)
    else:
        parts = [int(part) for part in test["version"].split(b".") if part]
        tested = (parts[0], parts[1] if len(parts) > 1 else 0)
    if tested > _OLDEST:
        return None
    sign = (test["sign"] or test["sign_of_major"] or test["word"] or test["sign_of_zero"]).lower()
    if tested == _OLDEST and sign in (b">", b"<=", b"gt", b"le"):
        return None
    return _SIGNS.get(sign, sign).startswith(b">") is not bool(test["no"])


def names_one(written: bytes, extensions: Iterable[str]) -> bool:
    """Whether a text of the program names an extension by one of its words, as what is chosen.

    In a string (``case 'memcached'``), or as a switch (``if (USE_LDAP)``, ``if ($config->enable_ldap)``).
    """
    strings = b" ".join(re.findall(rb"['\"]([^'\"]{2,40})['\"]", written)).decode("latin-1").lower()
    switches = {part.lower() for name in _switches(written) for part in _PARTS.findall(name)}
    if not strings and not switches:
        return False
    words = [word for extension in extensions for word in words_for(extension)]
    return any(word in strings or word in switches for word in words)


_GIVEN: Final = re.compile(rb"(?<![\w$])([A-Za-z_]\w{0,60})\s*+\(\s*+['\"]\\{0,2}([A-Za-z_][\w\\]{2,60})['\"]")


def names_provided(written: bytes, extensions: Collection[str]) -> bool:
    """Whether one of the program's own functions is given the name of what an extension provides.

    ``if ($platform->knows('mb_strlen'))``; PHP's own functions that call what they are given ask nothing.
    """
    for asked, name in _GIVEN.findall(written):
        told = name.decode("latin-1").replace("\\\\", "\\")
        who = {symbol.extension for kind in _KINDS for symbol in providers(kind, told.lower())}
        if not who.isdisjoint(extensions) and span_in_php("function", asked.decode("latin-1").lower()) is None:
            return not providers("function", asked.decode("latin-1").lower())
    return False


_KINDS: Final[tuple[Kind, ...]] = ("function", "class")


def _switches(written: bytes) -> Iterator[str]:
    """The names in a condition that look like settings; not PHP's own constants."""
    for match in _SWITCH.finditer(written):
        constant = match["constant"]
        if constant is None:
            yield (match["switch"] or match["switched"]).decode("latin-1")
        elif not providers("constant", constant.decode("latin-1")):
            yield constant.decode("latin-1")


_SWITCH: Final = re.compile(
    rb"(?<![\w$>:'\"])(?P<constant>[A-Z][A-Z0-9]*_[A-Z0-9_]+)\b(?!\s*\()|"
    rb"(?:\$|->)_?(?:use|enable|with|allow)s?_?(?P<switch>(?:[A-Z]|(?<=_)[a-z])\w*)\b(?!\s*\()|"
    rb"(?:\$|->)(?P<switched>\w+?)_?(?:[Ee]nabled|[Aa]ctive|[Aa]llowed)\b(?!\s*\()"
)
"""A constant of several words; a variable or property that switches something on."""
_PARTS: Final = re.compile(r"[A-Z]?[a-z0-9]+|[A-Z0-9]+")
