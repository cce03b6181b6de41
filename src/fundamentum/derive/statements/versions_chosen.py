"""The clauses of a ``switch`` or a ``match`` over PHP's version, or a part of it, and which version takes each.

``switch (PHP_MAJOR_VERSION) { case 5: case 7: exit('PHP 8 is needed'); }``
"""

import operator
from collections.abc import Callable, Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.evaluation import Cases
from fundamentum.derive.php_source.nodes import Patience, children, field
from fundamentum.derive.php_source.scalars import loosely_equal

_CHOOSING: Final = frozenset({"switch_statement", "match_expression"})
_OTHERWISE: Final = frozenset({"default_statement", "match_default_expression"})


def clauses(asked: Node, told: Cases, cases: Callable[[Node], Cases]) -> Iterator[tuple[Node, tuple[bool, ...]]]:
    """A node at the head of each clause, and whether a case takes it.

    ``asked``: the expression that is chosen by; ``told``: what it comes to; ``cases``: what other expressions do.
    """
    choice = asked.parent
    while choice is not None and choice.type == "parenthesized_expression":
        Patience.tick()
        choice = choice.parent
    block = field(choice, "body") if choice is not None and choice.type in _CHOOSING else None
    taken = [False] * len(told)
    before = [False] * len(told)
    for clause in children(block):
        if clause.type in _OTHERWISE:
            yield clause.children[0], tuple(not is_taken for is_taken in taken)
            return
        heads = clause.named_children[:1]
        strict = clause.type == "match_conditional_expression"
        for head in heads[0].named_children if strict else heads:
            known = cases(head)
            same = [loosely_equal(*pair, strict=strict) for pair in zip(told, known, strict=True)]
            before = [*map(operator.or_, before, same)]
        taken = [*map(operator.or_, taken, before)]
        if clause.named_child_count > 1:
            yield head, tuple(before)
            before = [False] * len(told)  # a clause that does nothing goes on to the next
