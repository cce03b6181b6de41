"""Where nginx's servers wait, and by which names.  Source: its documentation of ``listen`` and ``server_name``."""

import re
from collections.abc import Sequence
from typing import Any

from fundamentum.model.origin import Origin
from fundamentum.model.remark import Remark

Block = Sequence[dict[str, Any]]


class Names:
    """The names that are answered for at each address: of two servers with one name the second is passed over."""

    def __init__(self, remarks: list[Remark]) -> None:
        self.remarks = remarks
        self._first: dict[tuple[str, str], Origin] = {}

    def left(self, block: Block, names: Sequence[str], origin: Origin) -> list[str]:
        """Those of a server's names that lead to it, at any of its addresses; that others do not is remarked."""
        left = []
        for name in names:
            taken = [self._first.setdefault((where, name), origin) for where in addresses(block)]
            if origin in taken:
                left.append(name)
            else:
                why = f"{origin}: {name or 'a server without a name'} is set up at {taken[0]} already, which answers"
                self.remarks.append(Remark("web sites", why))
        return left


def address_of(block: Block) -> str:
    """Where a server waits: its first ``listen``."""
    return addresses(block)[0]


def addresses(block: Block) -> list[str]:
    """All addresses at which a server waits."""
    listens = [statement["args"][0] for statement in block if statement["directive"] == "listen" and statement["args"]]
    return [_whole(text) for text in listens or ["80"]]


def _whole(first: str) -> str:
    if first.startswith("unix:"):
        return str(first)
    port = re.search(r":(\d+)$", first)
    return str(first) if port else f"*:{first}" if first.isdigit() else f"{first}:80"


def is_secure(block: Block) -> bool:
    return any(
        (statement["directive"] == "listen" and "ssl" in statement["args"])
        or (statement["directive"], statement["args"]) == ("ssl", ["on"])
        for statement in block
    )
