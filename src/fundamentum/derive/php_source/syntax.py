"""Constructs of the language that bound the version of PHP from below or above.

Each rule has a pattern that finds candidates in the raw text, and a question to the parsed file that settles it: a
pattern alone would be fooled by strings and comments.  Source: the migration chapters of the PHP manual, confirmed by
linting one small file for each construct under the branches around its bound.
"""

import re
from collections.abc import Callable, Iterable, Iterator
from typing import Final

import msgspec
from tree_sitter import Node

from fundamentum.catalog import branch_key
from fundamentum.derive.php_source.facts import Syntax
from fundamentum.derive.php_source.nodes import ancestors, nearest
from fundamentum.derive.php_source.source import Source

Confirm = Callable[[Source, Node], bool]

FUNCTIONS: Final = frozenset(
    {"function_definition", "method_declaration", "anonymous_function", "arrow_function", "anonymous_function_creation_expression"}
)  # fmt: skip
_TYPES: Final = frozenset({"named_type", "primitive_type", "optional_type", "union_type", "bottom_type"})


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


def _parent(*types: str) -> Confirm:
    return lambda _, node: node.parent is not None and node.parent.type in types


def _is(*types: str) -> Confirm:
    return lambda _, node: node.type in types


def _within(*types: str) -> Confirm:
    return lambda _, node: any(parent.type in types for parent, _ in ancestors(node))


def _typed(source: Source, node: Node) -> bool:
    """A word where a type stands."""
    return node.type in _TYPES or (node.parent is not None and node.parent.type in _TYPES)


def _returned(source: Source, node: Node) -> bool:
    """A type that a function returns."""
    if not _typed(source, node):
        return False
    for parent, child in ancestors(node):
        if parent.type in FUNCTIONS:
            return parent.child_by_field_name("return_type") == child
    return False


def _has_type(source: Source, node: Node) -> bool:
    declaration = nearest(node, "property_declaration", "compound_statement")
    if declaration is None or declaration.type != "property_declaration":
        return False
    return declaration.child_by_field_name("type") is not None


def _typed_constant(source: Source, node: Node) -> bool:
    declaration = node.parent
    return (
        declaration is not None
        and declaration.type == "const_declaration"
        and any(child.type in _TYPES for child in declaration.named_children)
    )


def _default_new(source: Source, node: Node) -> bool:
    """``new`` in the default value of a parameter."""
    for parent, child in ancestors(node):
        if parent.type in ("simple_parameter", "property_promotion_parameter"):
            return parent.child_by_field_name("default_value") == child
        if parent.type.endswith("_statement"):
            return False
    return False


def _thrown(source: Source, node: Node) -> bool:
    """``throw`` as an expression, not as a statement."""
    expression = node.parent
    return (
        expression is not None
        and expression.type == "throw_expression"
        and expression.parent is not None
        and expression.parent.type != "expression_statement"
    )


def _caught_without_name(source: Source, node: Node) -> bool:
    clause = node.parent
    return clause is not None and clause.type == "catch_clause" and clause.child_by_field_name("name") is None


def _on_object(source: Source, node: Node) -> bool:
    access = node.parent
    return (
        access is not None
        and access.type == "class_constant_access_expression"
        and access.children[0].type == "variable_name"
    )


def _readonly(*places: str) -> Confirm:
    def confirm(source: Source, node: Node) -> bool:
        modifier = node if node.type == "readonly_modifier" else node.parent
        return modifier is not None and modifier.parent is not None and modifier.parent.type in places

    return confirm


def _trailing_comma(*lists: str) -> Confirm:
    def confirm(source: Source, node: Node) -> bool:
        comma = source.at(node.start_byte, node.start_byte + 1)
        return comma is not None and comma.type == "," and comma.parent is not None and comma.parent.type in lists

    return confirm


def _indented_end(source: Source, node: Node) -> bool:
    heredoc = nearest(node, "heredoc", "nowdoc")
    if heredoc is None:
        return False
    last = source.data[: heredoc.end_byte].rsplit(b"\n", 1)[-1]
    return last[:1] in (b" ", b"\t")


def _underscored(source: Source, node: Node) -> bool:
    return node.type in ("integer", "float") and "_" in source.text(node)


def _called_on_new(source: Source, node: Node) -> bool:
    creation = node if node.type == "object_creation_expression" else node.parent
    if creation is None or creation.type != "object_creation_expression" or creation.parent is None:
        return False
    place = creation.parent
    return (
        place.type in ("member_call_expression", "member_access_expression")
        and place.child_by_field_name("object") == creation
    )


def _cloned_with(source: Source, node: Node) -> bool:
    clone = node.parent
    return clone is not None and clone.type == "clone_expression" and any(c.type == "arguments" for c in clone.children)


def _in_code(source: Source, node: Node) -> bool:
    quoted = {"comment", "text", "string_content", "string", "encapsed_string", "heredoc_body", "nowdoc_body", "heredoc",
              "nowdoc_string", "shell_command_expression", "escape_sequence"}  # fmt: skip
    return node.type not in quoted and not any(parent.type in quoted for parent, _ in ancestors(node))


def _braced_offset(*, asked_for: bool) -> Confirm:
    """``$text{0}``: the brace follows a variable at once.  ``asked_for``: within ``isset``, which went on taking it."""

    def confirm(source: Source, node: Node) -> bool:
        before = source.data[max(node.start_byte - 120, 0) : node.start_byte]
        offset = re.search(rb"(?P<isset>isset\s*\(\s*)?\$\w+(?:->\w+|\[[^\[\]]{0,60}\])*$", before)
        return _in_code(source, node) and offset is not None and (offset["isset"] is not None) is asked_for

    return confirm


_TYPED_IN_EXCEPTIONS: Final = frozenset({"exception", "error", "errorexception", "runtimeexception", "logicexception"})


def _untyped_in_exception(source: Source, node: Node) -> bool:
    """A property that exceptions have with a type, declared again without one."""
    declaration = nearest(node, "property_declaration", "class_declaration")
    whole = nearest(node, "class_declaration")
    base = next((one for one in whole.named_children if one.type == "base_clause"), None) if whole is not None else None
    if declaration is None or declaration.type != "property_declaration" or base is None:
        return False
    untyped = declaration.child_by_field_name("type") is None
    return (
        untyped
        and source.names.class_name(source.text(base.named_children[0]), base.start_byte) in _TYPED_IN_EXCEPTIONS
    )


def _names_function(source: Source, node: Node) -> bool:
    return (
        node.parent is not None
        and node.parent.type == "function_definition"
        and node.parent.child_by_field_name("name") == node
    )


def _outside_classes(source: Source, node: Node) -> bool:
    """In code, and no member of a class: those may be called anything."""
    return _in_code(source, node) and not any(parent.type == "declaration_list" for parent, _ in ancestors(node))


def _pattern(text: str) -> re.Pattern[bytes]:
    return re.compile(text.encode())


def _rule(since: str, what: str, pattern: str, confirm: Confirm, words: str = "", gone: str = "") -> Rule:
    return Rule(since, gone, what, _pattern(pattern), confirm, frozenset(words.encode().split()))


def _gone(gone: str, what: str, pattern: str, confirm: Confirm, words: str = "") -> Rule:
    return _rule("", what, pattern, confirm, words, gone)


_OFFSET: Final = r"(?P<at>\{)(?<=[\w\]]\{)(?<!else\{)(?<!do\{)(?<!try\{)(?<!finally\{)\s*[$\d\-]"
VISIBLE: Final = "public protected private"
RULES: Final = (
    _rule("8.5", "the pipe operator", r"(?P<at>\|>)", _is("|>")),
    _rule("8.5", "clone with new values", r"(?P<at>clone)\s*\(\s*\$\w+\s*,", _cloned_with, "clone"),
    _rule("8.4", "property hooks", r"(?P<at>\{)\s*(?:final\s+)?(?:&?\s*get|set)\s*(?:=>|[{;(])", _parent("property_hook_list"), "get set"),
    _rule("8.4", "a visibility of its own for writing", r"\((?P<at>set)\)", _within("visibility_modifier"), "set"),
    _rule("8.4", "a call on new without parentheses", r"(?P<at>new)\s+[\w\\]+\s*\([^()]*\)\s*->", _called_on_new, "new"),
    _rule("8.3", "a class constant with a type", r"(?P<at>const)\s+\??[\w\\|]+\s+\w+\s*=", _typed_constant, "const"),
    _rule("8.3", "a class constant fetched by name", r"::(?P<at>\{)\s*\$", _parent("class_constant_access_expression"), ),
    _rule("8.2", "a readonly class", r"(?P<at>readonly)\s+(?:final\s+|abstract\s+)*class\b", _readonly("class_declaration"), "readonly"),
    _rule("8.2", "a readonly class", r"(?:final|abstract)\s+(?P<at>readonly)\s+class\b", _readonly("class_declaration"), "readonly"),
    _rule("8.2", "the type true", r"(?P<at>true)(?<![\w\\$]true)\s*(?:\{|\$)", _typed, "true"),
    _rule("8.2", "a union of intersections", r"(?P<at>&)\s*[\w\\]+\)\s*\|", _within("disjunctive_normal_form_type")),
    _rule("8.1", "an enumeration", r"(?P<at>enum)\s+\w+\s*(?::\s*\w+\s*)?(?:implements\b[^{]*)?\{", _parent("enum_declaration"), "enum"),
    _rule("8.1", "a readonly property", r"(?P<at>readonly)\s+(?:(?:public|protected|private|static)\s+)*[?\w\\|]+\s+\$", _readonly("property_declaration", "property_promotion_parameter"), "readonly"),
    _rule("8.1", "the return type never", r":\s*(?P<at>never)\b", _returned, "never"),
    _rule("8.1", "a function made a value", r"(?P<at>\.\.\.)\s*\)", _is("variadic_placeholder", "...")),
    _rule("8.1", "new in a default value", r"function\s*&?\s*\w*\s*\([^()]*(?:\([^()]*\)[^()]*)*=\s*(?P<at>new)\b", _default_new, "new"),
    _rule("8.1", "an intersection of types", r"(?P<at>&)\s*[\w\\]+\s+\$", _within("intersection_type")),
    _rule("8.1", "a final class constant", r"(?P<at>final)\s+(?:public\s+|protected\s+)?const\b", _within("const_declaration"), "final"),
    _rule("8.1", "an octal number with 0o", r"(?P<at>0o[0-7]+)", _is("integer")),
    _rule("8.0", "match", r"(?P<at>match)(?<![\w$>:]match)(?<!function match)\s*\(", _parent("match_expression"), "match"),
    _rule("8.0", "the nullsafe operator", r"(?P<at>\?->)", _is("?->")),
    _rule("8.0", "a named argument", r"[(,]\s*(?P<at>[a-zA-Z_]\w*)\s*:(?!:)", _parent("argument")),
    _rule("8.0", "a union of types", r"(?P<at>\|)\s*[\w\\]+\s+[&.]*\$", _within("union_type")),
    _rule("8.0", "a union of types", r":(?<!::)\s*[\w\\]+\s*(?P<at>\|)\s*[\w\\]", _within("union_type")),
    _rule("8.0", "a property declared in the constructor", r"__construct\s*\([^()]*(?:\([^()]*\)[^()]*)*(?P<at>public|protected|private)\s", _within("property_promotion_parameter"), "__construct"),
    _rule("8.0", "the return type static", r"\)\s*:\s*\??\s*(?P<at>static)\b", _returned, "static"),
    _rule("8.0", "the type mixed", r"(?P<at>mixed)(?<![\w\\$]mixed)\b", _typed, "mixed"),
    _rule("8.0", "throw as an expression", r"(?P<at>throw)(?<=[?:>|&rd]\sthrow)\b", _thrown, "throw"),
    _rule("8.0", "catch without a variable", r"(?P<at>catch)\s*\(\s*[\w\\|\s]+\)", _caught_without_name, "catch"),
    _rule("8.0", "::class of an object", r"\$\w+::(?P<at>class)\b", _on_object, "class"),
    _rule("8.0", "a trailing comma in a list of parameters", r"(?P<at>,)\s*\)\s*(?:[{:]|use\b)", _trailing_comma("formal_parameters"), "function"),
    _rule("7.4", "a short function (fn)", r"(?P<at>fn)\s*&?\s*\(", _parent("arrow_function"), "fn"),
    _rule("7.4", "a property with a type", r"(?:public|protected|private|static|var)\s+(?!static\s+\$|function\b|abstract\b|final\b|public\b|protected\b|private\b)(?:static\s+)?\??[\w\\|]+\s+(?P<at>\$)", _has_type, VISIBLE + " var static"),
    _rule("7.4", "assignment where null (??=)", r"(?P<at>\?\?=)", _is("??=")),
    _rule("7.4", "a separator in a number", r"_(?P<at>\d)(?<=\d_\d)", _underscored),
    _rule("7.4", "unpacking in an array", r"\[[^\[\]()]*(?P<at>\.\.\.)", lambda s, n: n.parent is not None and n.parent.type == "variadic_unpacking" and n.parent.parent is not None and n.parent.parent.type == "array_element_initializer"),
    _rule("7.3", "a trailing comma in a call", r"\((?<!array\()(?<!array \()(?<!list\()(?<!set\()[^()]*(?P<at>,)\s*\)", _trailing_comma("arguments")),
    Rule("7.3", "", "the end of a text block indented", _pattern(r"(?P<at><<<)[ \t]*['\"]?\w"), _indented_end, raw=True),
    _rule("7.2", "the type object", r"(?P<at>object)(?:(?<![\w\\$]object)\s+[&.]*\$|(?<=[:?\s]object)\b)", _typed, "object"),
    _rule("7.1", "a nullable type", r"(?P<at>\?)\s*[a-z_\\][\w\\]*\s*(?:[&.]*\$|[{;=])", _parent("optional_type")),
    _rule("7.1", "the return type void", r":\s*(?P<at>void)\b", _returned, "void"),
    _rule("7.1", "a class constant with a visibility", r"(?P<at>public|protected|private)\s+const\b", _within("const_declaration"), "const"),
    _rule("7.1", "catching one of several", r"(?P<at>catch)\s*\(\s*[\w\\]+\s*\|", _parent("catch_clause"), "catch"),
    _rule("7.0", "the null operator (??)", r"(?P<at>\?\?)(?!=)", _is("??")),
    _rule("7.0", "three-way comparison (<=>)", r"(?P<at><=>)", _is("<=>")),
    _rule("7.0", "an anonymous class", r"new\s+(?P<at>class)\b", _in_code, "class"),
    _rule("7.0", "a return type", r"function\b\s*&?\s*\w*\s*\([^()]*(?:\([^()]*\)[^()]*)*\)\s*(?P<at>:)\s*[\w\\]+", lambda s, n: n.parent is not None and n.parent.type in FUNCTIONS),
    _rule("7.0", "strict types", r"declare\s*\(\s*(?P<at>strict_types)\b", _within("declare_statement"), "strict_types"),
    _gone("8.4", "an offset in braces that isset asks for", _OFFSET, _braced_offset(asked_for=True), "isset"),
    _gone("8.1", "a property of exceptions without its type", r"(?P<at>\$)(?:file|line)\b\s*[;=,]", _untyped_in_exception, "extends"),
    _gone("8.0", "an offset in braces", _OFFSET, _braced_offset(asked_for=False)),
    _gone("8.0", "the cast (real)", r"(?P<at>\(\s*real\s*\))\s*[$\w(]", _in_code, "real"),
    _gone("8.0", "the cast (unset)", r"(?P<at>\(\s*unset\s*\))\s*[$\w(]", _in_code, "unset"),
    _gone("8.0", "a function named __autoload", r"function\s+(?P<at>__autoload)\b", _names_function, "__autoload"),
    _gone("8.0", "a function or class named match", r"(?:function|class)\s+(?P<at>match)\b", _outside_classes, "match"),
    _gone("8.0", "a class named mixed", r"(?:class|interface|trait)\s+(?P<at>mixed)\b", _outside_classes, "mixed"),
    _gone("7.4", "a function named fn", r"function\s+(?P<at>fn)\s*\(", _outside_classes, "fn"),
    _gone("7.2", "a class named object", r"(?:class|interface|trait)\s+(?P<at>object)\b", _outside_classes, "object"),
    _gone("7.0", "a reference to new (=& new)", r"=\s*(?P<at>&)\s*new\b", _in_code, "new"),
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


_NAMED_ARGUMENT: Final = next(number for number, rule in enumerate(RULES) if rule.what == "a named argument")
_BUT_LISTS: Final = bytes(byte for byte in range(256) if byte not in b"()[]{},:;?")
_NAME_AND_COLON: Final = re.compile(rb"[(,]:(?!:)")


class Rules:
    """Finds out which of some rules a file may fit, without parsing it."""

    def __init__(self, rules: Iterable[int]) -> None:
        self.rules = frozenset(rules)
        self._in_code = [number for number in sorted(self.rules) if not RULES[number].raw]
        self._in_raw = [number for number in sorted(self.rules) if RULES[number].raw]

    def among(self, code: bytes, words: frozenset[bytes], blocks: bool) -> tuple[int, ...]:
        """The rules, by number, of which code without strings and comments may hold the construct.

        ``blocks``: there were blocks of text in it.
        """

        def may_hold(number: int) -> bool:
            if RULES[number].words and RULES[number].words.isdisjoint(words):
                return False
            # The pattern of this one stops at every parenthesis; with the names taken out, it shows at once.
            if number == _NAMED_ARGUMENT and not _NAME_AND_COLON.search(code.translate(None, _BUT_LISTS)):
                return False
            return RULES[number].pattern.search(code) is not None

        found = [number for number in self._in_code if may_hold(number)]
        if blocks:
            found += self._in_raw
        return tuple(sorted(found))
