"""Constructs of the language that bound the version of PHP from below or above.

Each rule has a pattern that finds candidates in the raw text, and a question to the parsed file that settles it: a
pattern alone would be fooled by strings and comments.  Source: the migration chapters of the PHP manual, confirmed by
linting one small file for each construct under the branches around its bound.
"""

import re
from collections.abc import Callable, Iterable, Iterator
from typing import Final

import msgspec

from fundamentum.catalog import branch_key
from fundamentum.derive.php_source.constructs import (
    FUNCTIONS,
    Confirm,
    braced_offset,
    called_on_new,
    caught_without_name,
    chosen_of_chosen,
    cloned_with,
    constant_of_trait,
    default_new,
    evaluates_replacement,
    handed_by_reference,
    has_type,
    in_code,
    indented_end,
    is_constructor_of_old,
    is_one_of,
    may_have_constructor_of_old,
    names_function,
    on_object,
    outside_classes,
    readonly,
    returned,
    returned_alone,
    stands_in,
    stands_within,
    thrown,
    trailing_comma,
    typed,
    typed_constant,
    underscored,
    untyped_in_exception,
)
from fundamentum.derive.php_source.facts import Syntax
from fundamentum.derive.php_source.source import Source

Perhaps = Callable[[bytes], bool]


class Rule(msgspec.Struct, frozen=True):
    """One construct."""

    since: str
    gone: str
    what: str
    pattern: re.Pattern[bytes]
    confirm: Confirm
    words: frozenset[bytes] = frozenset()
    """Words of which a file with the construct holds at least one; none named: any file may."""
    raw: bool = False
    """Whether it shows only in the raw text, since strings are taken out of the code."""
    perhaps: Perhaps | None = None
    """Whether a file may hold it, told from its code, or its raw text; none: whether the pattern matches there."""


def _pattern(text: str) -> re.Pattern[bytes]:
    return re.compile(text.encode())


def _rule(
    since: str, what: str, pattern: str, confirm: Confirm, words: str = "", perhaps: Perhaps | None = None
) -> Rule:
    return Rule(since, "", what, _pattern(pattern), confirm, frozenset(words.encode().split()), perhaps=perhaps)


def _gone(
    gone: str, what: str, pattern: str, confirm: Confirm, words: str = "", perhaps: Perhaps | None = None
) -> Rule:
    return Rule("", gone, what, _pattern(pattern), confirm, frozenset(words.encode().split()), perhaps=perhaps)


_OFFSET: Final = r"(?P<at>\{)(?<=[\w\]]\{)(?<!else\{)(?<!do\{)(?<!try\{)(?<!finally\{)\s*[$\d\-]"
_NAMED: Final = r"[(,]\s*(?P<at>[a-zA-Z_]\w*)\s*:(?!:)"
_BUT_LISTS: Final = bytes(byte for byte in range(256) if byte not in b"()[]{},:;?")
_NAME_AND_COLON: Final = re.compile(rb"[(,]:(?!:)")


def _may_name_argument(code: bytes) -> bool:
    """The pattern stops at every parenthesis; with the names taken out, it shows at once that nothing fits."""
    return (
        _NAME_AND_COLON.search(code.translate(None, _BUT_LISTS)) is not None
        and _NAMED_ARGUMENT.search(code) is not None
    )


_NAMED_ARGUMENT: Final = _pattern(_NAMED)
_EVALUATED: Final = (
    r"preg_replace\s*\(\s*(?:array\s*\(\s*|\[\s*)?(?P<at>['\"])(?=[^'\"\n]{1,400}[^\w\s\\]\w{0,6}e\w{0,6}['\"])"
)
VISIBLE: Final = "public protected private"
RULES: Final = (
    _rule("8.5", "the pipe operator", r"(?P<at>\|>)", is_one_of("|>")),
    _rule("8.5", "clone with new values", r"(?P<at>clone)\s*\(\s*\$\w+\s*,", cloned_with, "clone"),
    _rule("8.4", "property hooks", r"(?P<at>\{)\s*+(?:final\s++)?(?:&?\s*+get|set)\s*+(?:=>|[{;(])", stands_in("property_hook_list"), "get set"),
    _rule("8.4", "a visibility of its own for writing", r"\((?P<at>set)\)", stands_within("visibility_modifier"), "set"),
    _rule("8.4", "a call on new without parentheses", r"(?P<at>new)\s+[\w\\]+\s*\([^()]*\)\s*->", called_on_new, "new"),
    _rule("8.3", "a class constant with a type", r"(?P<at>const)\s+\??[\w\\|]+\s+\w+\s*=", typed_constant, "const"),
    _rule("8.3", "a class constant fetched by name", r"::(?P<at>\{)\s*\$", stands_in("class_constant_access_expression"), ),
    _rule("8.2", "a readonly class", r"(?P<at>readonly)\s+(?:final\s+|abstract\s+)*class\b", readonly("class_declaration"), "readonly"),
    _rule("8.2", "a readonly class", r"(?:final|abstract)\s+(?P<at>readonly)\s+class\b", readonly("class_declaration"), "readonly"),
    _rule("8.2", "null or false as a type of its own", r"\)\s*+:\s*+(?P<at>null|false)\s*+[{;=]", returned_alone),
    _rule("8.2", "the type true", r"(?P<at>true)(?<![\w\\$]true)\s*(?:\{|\$)", typed, "true"),
    _rule("8.2", "a union of intersections", r"(?P<at>&)\s*[\w\\]+\)\s*\|", stands_within("disjunctive_normal_form_type")),
    _rule("8.2", "a constant in a trait", r"(?P<at>const)\s", constant_of_trait, "trait"),
    _rule("8.1", "an enumeration", r"(?P<at>enum)\s+\w+\s*(?::\s*\w+\s*)?(?:implements\b[^{]*)?\{", stands_in("enum_declaration"), "enum"),
    _rule("8.1", "a readonly property", r"(?P<at>readonly)\s+(?:(?:public|protected|private|static)\s+)*[?\w\\|]+\s+\$", readonly("property_declaration", "property_promotion_parameter"), "readonly"),
    _rule("8.1", "the return type never", r":\s*(?P<at>never)\b", returned, "never"),
    _rule("8.1", "a function made a value", r"(?P<at>\.\.\.)\s*\)", is_one_of("variadic_placeholder", "...")),
    _rule("8.1", "new in a default value", r"function\s*+&?\s*+\w*+\s*+\([^()]*(?:\([^()]*\)[^()]*)*=\s*(?P<at>new)\b", default_new, "new"),
    _rule("8.1", "an intersection of types", r"(?P<at>&)\s*[\w\\]+\s+\$", stands_within("intersection_type")),
    _rule("8.1", "a final class constant", r"(?P<at>final)\s+(?:public\s+|protected\s+)?const\b", stands_within("const_declaration"), "final"),
    _rule("8.1", "an octal number with 0o", r"(?P<at>0o[0-7]+)", is_one_of("integer")),
    _rule("8.0", "match", r"(?P<at>match)(?<![\w$>:]match)(?<!function match)\s*\(", stands_in("match_expression"), "match"),
    _rule("8.0", "the nullsafe operator", r"(?P<at>\?->)", is_one_of("?->")),
    _rule("8.0", "a named argument", _NAMED, stands_in("argument"), perhaps=_may_name_argument),
    _rule("8.0", "a union of types", r"(?P<at>\|)\s*[\w\\]+\s+[&.]*\$", stands_within("union_type")),
    _rule("8.0", "a union of types", r":(?<!::)\s*[\w\\]+\s*(?P<at>\|)\s*[\w\\]", stands_within("union_type")),
    _rule("8.0", "a property declared in the constructor", r"__construct\s*\([^()]*(?:\([^()]*\)[^()]*)*(?P<at>public|protected|private)\s", stands_within("property_promotion_parameter"), "__construct"),
    _rule("8.0", "the return type static", r"\)\s*+:\s*+\??\s*+(?P<at>static)\b", returned, "static"),
    _rule("8.0", "the type mixed", r"(?P<at>mixed)(?<![\w\\$]mixed)\b", typed, "mixed"),
    _rule("8.0", "throw as an expression", r"(?P<at>throw)(?<=[?:>|&rd]\sthrow)\b", thrown, "throw"),
    _rule("8.0", "catch without a variable", r"(?P<at>catch)\s*+\(\s*+[\w\\|\s]++\)", caught_without_name, "catch"),
    _rule("8.0", "::class of an object", r"\$\w+::(?P<at>class)\b", on_object, "class"),
    _rule("8.0", "a trailing comma in a list of parameters", r"(?P<at>,)\s*\)\s*(?:[{:]|use\b)", trailing_comma("formal_parameters"), "function"),
    _rule("7.4", "a short function (fn)", r"(?P<at>fn)\s*+&?\s*+\(", stands_in("arrow_function"), "fn"),
    _rule("7.4", "a property with a type", r"(?:public|protected|private|static|var)\s+(?!static\s+\$|function\b|abstract\b|final\b|public\b|protected\b|private\b)(?:static\s+)?\??[\w\\|]+\s+(?P<at>\$)", has_type, VISIBLE + " var static"),
    _rule("7.4", "assignment where null (??=)", r"(?P<at>\?\?=)", is_one_of("??=")),
    _rule("7.4", "a separator in a number", r"_(?P<at>\d)(?<=\d_\d)", underscored),
    _rule("7.4", "unpacking in an array", r"\[[^\[\]()]*(?P<at>\.\.\.)", lambda s, n: n.parent is not None and n.parent.type == "variadic_unpacking" and n.parent.parent is not None and n.parent.parent.type == "array_element_initializer"),
    _rule("7.3", "a trailing comma in a call", r"\((?<!array\()(?<!array \()(?<!list\()(?<!set\()[^()]*(?P<at>,)\s*\)", trailing_comma("arguments")),
    Rule("7.3", "", "the end of a text block indented", _pattern(r"(?P<at><<<)[ \t]*['\"]?\w"), indented_end, raw=True),
    _rule("7.2", "the type object", r"(?P<at>object)(?:(?<![\w\\$]object)\s+[&.]*\$|(?<=[:?\s]object)\b)", typed, "object"),
    _rule("7.1", "the type iterable", r"(?P<at>iterable)(?<![\w\\$]iterable)\b", typed, "iterable"),
    _rule("7.3", "a reference to a member that is taken out", r"[\[(,]\s*+(?P<at>&)\s*+\$", stands_within("list_literal")),
    _rule("7.1", "a list that is taken apart by its keys", r"list\s*+\([^()]{0,200}?(?P<at>=>)", stands_in("list_literal", "pair"), "list"),
    _rule("7.1", "a list in brackets that is taken apart", r"(?P<at>\[)[^\[\];]{0,300}\]\s*(?:=(?![=>])|\))", stands_in("list_literal")),
    _rule("7.1", "a nullable type", r"(?P<at>\?)\s*[a-z_\\][\w\\]*\s*(?:[&.]*\$|[{;=])", stands_in("optional_type")),
    _rule("7.1", "the return type void", r":\s*(?P<at>void)\b", returned, "void"),
    _rule("7.1", "a class constant with a visibility", r"(?P<at>public|protected|private)\s+const\b", stands_within("const_declaration"), "const"),
    _rule("7.1", "catching one of several", r"(?P<at>catch)\s*\(\s*[\w\\]+\s*\|", stands_in("catch_clause"), "catch"),
    _rule("7.0", "several names in one use", r"\buse\s+(?:function\s+|const\s+)?[\w\\]+(?P<at>\{)", stands_in("namespace_use_group"), "use"),
    _rule("7.0", "yield from", r"(?P<at>yield)\s+from\b", in_code, "yield"),
    _rule("7.0", "the null operator (??)", r"(?P<at>\?\?)(?!=)", is_one_of("??")),
    _rule("7.0", "three-way comparison (<=>)", r"(?P<at><=>)", is_one_of("<=>")),
    _rule("7.0", "an anonymous class", r"new\s+(?P<at>class)\b", in_code, "class"),
    _rule("7.0", "a return type", r"function\b\s*+&?\s*+\w*+\s*+\([^()]*+(?:\([^()]*+\)[^()]*+)*+\)\s*(?P<at>:)\s*[\w\\]+", lambda s, n: n.parent is not None and n.parent.type in FUNCTIONS),
    _rule("7.0", "strict types", r"declare\s*\(\s*(?P<at>strict_types)\b", stands_within("declare_statement"), "strict_types"),
    _gone("8.4", "an offset in braces that isset asks for", _OFFSET, braced_offset(asked_for=True), "isset"),
    _gone("8.1", "a property of exceptions without its type", r"(?P<at>\$)(?:file|line)\b\s*[;=,]", untyped_in_exception, "extends"),
    _gone("8.1", "a class named never or readonly", r"(?:class|interface|trait)\s+(?P<at>never|readonly)\b", outside_classes, "never readonly"),
    _gone("8.0", "an offset in braces", _OFFSET, braced_offset(asked_for=False)),
    _gone("8.0", "a choice within a choice without parentheses", r"\?[^;?{}]{0,400}:[^;?{}]{0,200}(?P<at>\?)(?![?>-])", chosen_of_chosen),
    _gone("8.0", "the cast (real)", r"(?P<at>\(\s*real\s*\))\s*[$\w(]", in_code, "real"),
    _gone("8.0", "the cast (unset)", r"(?P<at>\(\s*unset\s*\))\s*[$\w(]", in_code, "unset"),
    _gone("8.0", "a function named __autoload", r"function\s+(?P<at>__autoload)\b", names_function, "__autoload"),
    _gone("8.0", "a constructor called as its class", r"function\s+&?\s*(?P<at>\w+)\s*\(", is_constructor_of_old, "class", may_have_constructor_of_old),
    _gone("8.0", "a function or class named match", r"(?:function|class)\s+(?P<at>match)\b", outside_classes, "match"),
    _gone("8.0", "a class named mixed", r"(?:class|interface|trait)\s+(?P<at>mixed)\b", outside_classes, "mixed"),
    _gone("7.4", "a function named fn", r"function\s+(?P<at>fn)\s*\(", outside_classes, "fn"),
    _gone("7.2", "a class named object", r"(?:class|interface|trait)\s+(?P<at>object)\b", outside_classes, "object"),
    _gone("7.1", "a class named void or iterable", r"(?:class|interface|trait)\s+(?P<at>void|iterable)\b", outside_classes, "void iterable"),
    _gone("7.0", "a class named after a type", r"(?:class|interface|trait)\s+(?P<at>string|int|float|bool|null|true|false)\b", outside_classes, "string int float bool null true false"),
    Rule("", "7.0", "a replacement that is evaluated (preg_replace with e)", _pattern(_EVALUATED), evaluates_replacement, frozenset({b"preg_replace"}), raw=True),
    _gone("5.4", "a reference handed to a call", r"[(,]\s*+(?P<at>&)\s*+\$", handed_by_reference),
    _gone("7.0", "a reference to new (=& new)", r"=\s*(?P<at>&)\s*new\b", in_code, "new"),
)  # fmt: skip


def rules_after(branch: str) -> tuple[int, ...]:
    """The rules, by number, that can still tell something where a branch is known to be the lowest; empty: all."""
    if not branch:
        return tuple(range(len(RULES)))
    return tuple(n for n, rule in enumerate(RULES) if branch_key(rule.since or rule.gone) > branch_key(branch))


def found_in(source: Source, rules: Iterable[Rule], limit: int = 2) -> Iterator[Syntax]:
    """The constructs that a file really holds, at most ``limit`` places of each."""
    lowered = source.data.lower()
    for rule in rules:
        seen = 0
        for tried, match in enumerate(rule.pattern.finditer(lowered)):
            if seen == limit or tried == 400:
                break
            group = match.lastgroup or "at"
            node = source.at(match.start(group), match.end(group))
            if node is not None and rule.confirm(source, node):
                seen += 1
                yield Syntax(rule.since, rule.gone, rule.what, source.data.count(b"\n", 0, match.start(group)) + 1)


class Rules:
    """Finds out which of some rules a file may fit, without parsing it."""

    def __init__(self, rules: Iterable[int]) -> None:
        self.rules = frozenset(rules)
        self._in_code = [number for number in sorted(self.rules) if not RULES[number].raw]
        self._in_raw = [number for number in sorted(self.rules) if RULES[number].raw]

    def among(self, code: bytes, words: frozenset[bytes], data: bytes, blocks: bool) -> tuple[int, ...]:
        """The rules, by number, of which a file may hold the construct.

        ``code``: without strings and comments; ``data``: with them; ``blocks``: there were blocks of text in it.
        """

        def may_hold(number: int, text: bytes) -> bool:
            rule = RULES[number]
            if rule.words and rule.words.isdisjoint(words):
                return False
            return rule.perhaps(text) if rule.perhaps is not None else rule.pattern.search(text) is not None

        branches = [number for number in self._in_code if may_hold(number, code)]
        named = [number for number in self._in_raw if not RULES[number].words.isdisjoint(words)]
        lowered = data.lower() if named else b""
        branches += [number for number in named if may_hold(number, lowered)]
        branches += [number for number in self._in_raw if blocks and not RULES[number].words]
        return tuple(sorted(branches))
