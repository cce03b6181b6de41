"""nginx's variables whose value is the same for every request.

Source: nginx's documentation of its rewrite module (``set``, ``if``, ``break``) and of its map module.
"""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.webservers.handoffs import MAX_SENT
from fundamentum.webservers.nginx.statements import all_statements

_VARIABLE: Final = lazy_regex(r"\$\{?(\w+)\}?")
_MAX_VALUE: Final = 500


def filled(text: str, variables: Mapping[str, str]) -> str:
    """A text with the variables that are known put in; the others stay as they are written."""
    return _VARIABLE.sub(lambda match: variables.get(f"${match[1]}", match[0])[:_MAX_VALUE], text[: MAX_SENT + 1])


def variables_after(block: Sequence[dict[str, Any]], before: Mapping[str, str]) -> dict[str, str]:
    """The variables as a block leaves them, ``before`` being those around it.

    One that is set where a request decides, or behind what may end the rewriting, is not known any more.
    """
    known = dict(before)
    doubtful = False
    for line in block:
        match line["directive"]:
            case "map":
                known |= dict(_constant(line))
            case "set" if len(line["args"]) == 2:
                name, text = line["args"]
                value = filled(text, known)
                if (doubtful and known.get(name) != value) or "$" in value:
                    known.pop(name, None)
                else:
                    known[name] = value
            case "if":
                for inner in line.get("block", []):
                    if (
                        inner["directive"] == "set"
                        and len(inner["args"]) == 2
                        and inner["args"][1] != known.get(name := inner["args"][0])
                    ):
                        known.pop(name, None)
                doubtful = doubtful or any(_ends(inner) for inner in line.get("block", []))
            case _:
                doubtful = doubtful or _ends(line)
    return known


def set_in_locations(server: Sequence[dict[str, Any]]) -> frozenset[str]:
    """The variables that are set in any location of a server."""
    inside = (line.get("block", []) for line in server if line["directive"] == "location")
    return frozenset(
        line["args"][0]
        for block in inside
        for line in all_statements(block)
        if line["directive"] == "set" and line["args"]
    )


def _ends(line: dict[str, Any]) -> bool:
    """Whether a line may end the rewriting of the block that it stands in."""
    return line["directive"] == "break" or (
        line["directive"] == "rewrite" and line["args"][2:] in (["last"], ["break"])
    )


def _constant(mapping: dict[str, Any]) -> Iterator[tuple[str, str]]:
    """The variable of a ``map`` that has the same value for every request."""
    entries = [(inner["directive"], inner["args"][0]) for inner in mapping.get("block", []) if inner["args"]]
    values = {value for _, value in entries}
    if len(mapping["args"]) == 2 and len(values) == 1 and "default" in dict(entries):
        yield mapping["args"][1], values.pop()
