"""The largest file that a program takes of what is uploaded: ``if ($_FILES['plate']['size'] > MAX_PLATE) exit;``

The least that a limit has to be may be a product, be converted on the way, or stand under a name.
"""

import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.catalog.quantity import quantity
from fundamentum.derive.php_source.facts import Wish
from fundamentum.derive.php_source.nodes import arguments, around, called, field, line, text, unwrapped
from fundamentum.derive.statements.kept import first_given, kept_part, plain_name, returned

_SIZES: Final = frozenset({"memory_limit", "upload_max_filesize", "post_max_size"})
ELSEWHERE: Final = "@"
"""Stands before the name of a constant that another file defines, in place of a value."""
LARGEST_OF_MEGABYTES: Final = 4096
"""Below it, a number that a size is compared with is one of megabytes: nobody asks for so few bytes."""
LEAST_SIZE: Final = 2 << 20
_NUMBER: Final = re.compile(r"-?\d+\s*[kKmMgG]?")
_COMPARES: Final = frozenset({"<", "<=", ">", ">="})
_ON_THE_WAY: Final = frozenset(
    {"argument", "arguments", "function_call_expression", "member_call_expression", "scoped_call_expression",
     "cast_expression", "parenthesized_expression", "nullsafe_member_call_expression"}
)  # fmt: skip
"""What a value passes through that is converted before it is compared."""


UPLOADS: Final = "upload_max_filesize"
NO_LIMIT: Final = 1 << 29
"""From here on a form only says that it has no limit."""
FIELD: Final = b"MAX_FILE_SIZE"
_FIELD: Final = re.compile(
    rb"MAX_FILE_SIZE\b[^<>]{0,80}?\bvalue\s*+=\s*+[\\'\"]{0,2}(\d{5,12})\b|"
    rb"\bvalue\s*+=\s*+[\\'\"]{0,2}(\d{5,12})\b[^<>]{0,80}?\bMAX_FILE_SIZE\b"
)
"""A hidden field of a form, by which browsers are told the largest file: the application takes it."""
_KEPT: Final = rb"\$\w+(?:->\w+)?(?:\[[^\[\]]{1,40}\]){0,2}"
_SIZE: Final = re.compile(
    rb"%(kept)s\[['\"]size['\"]\]|%(kept)s->getSize\(\)|filesize\(\s?%(kept)s\[['\"]tmp_name['\"]\]\s?\)"
    % {b"kept": _KEPT}
)
"""The size of what was uploaded, as PHP tells it, as an object does that holds it, or of where it lies meanwhile."""
_UPLOADED: Final = (b"$_FILES", b"tmp_name", b"uploaded_file", b"UPLOAD_ERR_", b"UploadedFile", b"getClientFilename")
"""Without one of these a size may be that of anything."""


def speaks(data: bytes) -> bool:
    """Whether a file may say something of that."""
    return FIELD in data or _looks(data)


def _looks(data: bytes) -> bool:
    """Whether it may look at the size of what was uploaded."""
    return (b"size" in data or b"getSize" in data) and any(word in data for word in _UPLOADED)


def sizes_taken(root: Node, data: bytes) -> Iterator[Wish]:
    """What one file says of the size of what is uploaded."""
    for field_of_form in _FIELD.finditer(data) if FIELD in data else ():
        size = (field_of_form[1] or field_of_form[2]).decode()
        if int(size) < NO_LIMIT and (value := number_of(size, UPLOADS)):
            at = data.count(b"\n", 0, field_of_form.start()) + 1
            yield Wish("setting", UPLOADS, f">= {value}", at, "$_FILES: the largest that a form takes")
    for comparison in around(root, data, _SIZE, ("binary_expression",)) if _looks(data) else ():
        operator, left = text(field(comparison, "operator")), field(comparison, "left")
        size = left if operator in (">", ">=") else field(comparison, "right")
        if left is None or size is None or not _SIZE.fullmatch(text(size).encode("utf-8", "replace")):
            continue
        if value := _other_side(root, comparison, size, UPLOADS):
            yield Wish("setting", UPLOADS, f">= {value}", line(comparison), "$_FILES: its size is compared")


def number_of(written: str, directive: str) -> str:
    """``64 * 1024 * 1024`` as ``64M``, ``134217728`` of a size as ``128M``; empty: it is no number."""
    parts = [part.strip().strip("'\"") for part in written.replace("_", "").strip("() ").split("*")]
    if not all(_NUMBER.fullmatch(part) for part in parts):
        return ""
    product = 1
    for part in parts:
        product *= quantity(part).number
    if product <= 1:
        return ""
    if directive in _SIZES and product < LARGEST_OF_MEGABYTES and written.strip("'\"() ").isdigit():
        return f"{product}M"  # (int) ini_get('memory_limit') of 128M is 128
    if directive in _SIZES and product < LEAST_SIZE:
        return ""  # too little to be what anybody needs: something else is reckoned with it
    if len(parts) == 1 and (directive not in _SIZES or not parts[0].isdigit()):
        return parts[0]
    units = (("G", 1 << 30), ("M", 1 << 20), ("K", 1 << 10))
    return next((f"{product // size}{unit}" for unit, size in units if product % size == 0), str(product))


def _other_side(root: Node, comparison: Node, side: Node, directive: str) -> str:
    if text(field(comparison, "operator")) not in _COMPARES:
        return ""
    left, right = field(comparison, "left"), field(comparison, "right")
    other = right if left == side else left
    return _value(root, other, directive) if other is not None else ""


def _value(root: Node, node: Node, directive: str) -> str:
    """The number that an expression stands for: written there, converted there, or kept under a name in the file."""
    plain = unwrapped(node)
    if plain is None:
        return ""
    if number := number_of(text(plain), directive):
        return number
    if plain.type in _ON_THE_WAY and (given := arguments(plain)):
        return _value(root, given[0], directive)
    if plain.type == "binary_expression" and (number := number_of(_product(root, plain), directive)):
        return number
    name = plain_name(text(plain))
    if called(plain) and (told := returned(called(plain), root)) is not None:
        return number_of(text(told), directive)
    kept = kept_part(plain, root) or first_given(name, root)
    if kept is not None and (number := number_of(text(kept), directive)):
        return number
    return f"{ELSEWHERE}{name}" if plain.type in ("name", "class_constant_access_expression") and name.isupper() else ""


def _product(root: Node, node: Node) -> str:
    """A product with what is kept under the names in it: ``MAX_MB * 1024 * 1024``"""
    parts = [part.strip("() ") for part in text(node).split("*")]
    kept = [None if part[:1].isdigit() else first_given(plain_name(part), root) for part in parts[:MAX_FACTORS]]
    return " * ".join(
        text(operand) if operand is not None else part for operand, part in zip(kept, parts, strict=False)
    )


MAX_FACTORS: Final = 4
