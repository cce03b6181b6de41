"""The order of versions, as rpm sees it."""

import itertools
import re

from fundamentum.untrusted.numbers import clipped


def rpm_order(first: str, second: str) -> int:
    """Below, at or above zero, as rpm orders two ``EPOCH:VERSION-RELEASE``.  Source: rpm's ``rpmvercmp``."""
    keys = []
    for text in (first, second):
        epoch, _, rest = text.rpartition(":")
        version, _, release = rest.partition("-")
        keys.append((clipped(epoch) if re.fullmatch("[0-9]+", epoch) else 0, version, release))
    (epoch_one, *parts_one), (epoch_two, *parts_two) = keys
    if epoch_one != epoch_two:
        return epoch_one - epoch_two
    orders = (_segments(str(a), str(b)) for a, b in zip(parts_one, parts_two, strict=True))
    return next((order for order in orders if order), 0)


def _segments(first: str, second: str) -> int:
    """``~`` sorts before everything, ``^`` after the end but before more; numbers before letters lose to them."""
    a, b = (re.findall(r"[0-9]+|[A-Za-z]+|[~^]", text[:500]) for text in (first, second))
    for left, right in itertools.zip_longest(a, b, fillvalue=""):
        if left == right:
            continue
        for sign, order in (("~", -1), ("^", 1 if "" in (left, right) else -1)):
            if left == sign or right == sign:
                return order if left == sign else -order
        if not left or not right:
            return 1 if left else -1
        if left.isdigit() != right.isdigit():
            return 1 if left.isdigit() else -1
        if left.isdigit() and (one_number := left.lstrip("0")) != (other := right.lstrip("0")):
            return 1 if (len(one_number), one_number) > (len(other), other) else -1
        if not left.isdigit():
            return 1 if left > right else -1
    return 0
