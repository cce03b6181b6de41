"""Calls that name an extension: ``$this->requireExtension('gd')``, ``new ExtensionRequirement('gd')``,
``check(extension: 'gd', required: false)``, ``if (!hasExtension('gd')) exit;``
"""

import re
from collections.abc import Iterator
from typing import Final

from msgspec.structs import replace
from tree_sitter import Node

from fundamentum.derive.php_source.facts import Check
from fundamentum.derive.php_source.nodes import ancestors, called, field, names_of, text
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.derive.php_source.telling_names import TellingNames
from fundamentum.derive.statements.extension_lists import RECOMMENDED, listed_at

_VERBS: Final = rb"requir|need|must|assert|ensure|verif|check|mandat|recommend|suggest"
_STATES: Final = rb"loaded|exist|avail|enabled|installed|present"
STATE: Final = re.compile(_STATES)
_MADE: Final = ("call_expression", "creation_expression")
_NAME: Final = re.compile(
    rb"(?:%s|\Ahas|\Ahave|\Ais)\w*(?:ext|module)|(?:ext|module)\w*(?:%s|%s)" % (_VERBS, _VERBS, _STATES)
)
_DEMANDS: Final = re.compile(rb"requir|need|must|mandat|recommend|suggest")
"""Names that demand it; the others do so only where nobody looks at what they return."""
_GIVEN: Final = re.compile(rb"(?<!\w)(\w++)(?=\s*\(\s*(?:\w+\s*:\s*)?['\"]([a-z][\w -]{1,30})['\"])")
_GIVEN_BY_NAME: Final = re.compile(rb"\b(ext(?:ension)?)\s*:\s*['\"]([a-z][\w -]{1,30})['\"]")
NEED_NOT: Final = re.compile(r"\b(?:required|mandatory)\s*:\s*false|optional\s*:\s*true|^[^,]*,\s*false\s*\)$", re.I)
"""Arguments that say of an extension that it need not be there."""
BY_ARGUMENT: Final = re.compile(rb"ext(?:ension)?\s*:\s*['\"]")
"""In lower case: an extension as a named argument, or something else that ends so."""
_ASKED_ITSELF: Final = (b"extension_loaded", b"phpversion", b"get_extension_funcs")
ASKING: Final = TellingNames(_NAME)
"""Functions and classes that ask for an extension, by their names."""


def named_in_calls(root: Node, data: bytes, words: frozenset[bytes]) -> Iterator[Check]:
    """``$this->requireExtension('gd')``, ``new ExtensionRequirement('gd')``

    ``words``: those in the file, in lower case, that may be names of such functions.
    """
    lowered = data.lower()
    if ASKING.among(words):
        for match in _GIVEN.finditer(lowered):
            if ASKING.among([match[1]]) and match[1] not in _ASKED_ITSELF:
                yield from _of_call(match, root, data[match.start() : match.end()].decode("latin-1"))
    if BY_ARGUMENT.search(lowered):
        for match in _GIVEN_BY_NAME.finditer(lowered):
            yield from _of_call(match, root, "")


def _of_call(match: re.Match[bytes], root: Node, asking: str) -> Iterator[Check]:
    """A call that demands an extension; ``asking``: what is called, empty for one that is a named argument."""
    name = extension_called(match[2])
    node = root.descendant_for_byte_range(match.start(2), match.end(2))
    if not name or node is None or node.type != "string_content":
        return
    call = next((above for above, _ in ancestors(node) if above.type.endswith(_MADE)), node)
    asking = asking or called(call)
    given = text(field(call, "arguments") or (call.named_children or [call])[-1])
    alone = call.parent is not None and call.parent.type == "expression_statement"
    # What answers whether it is there is looked at by what the program does with the answer.
    if _DEMANDS.search(match[1]) or (alone and not STATE.search(match[1])) or not called(call):
        required = not RECOMMENDED.search(asking) and not NEED_NOT.search(given)
        yield replace(listed_at(name, required, node), what=f"{asking}('{name}')", around=names_of(call))
