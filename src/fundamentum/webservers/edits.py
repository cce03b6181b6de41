"""Changes of web servers' files, as unified diffs."""

import re
from collections.abc import Iterable

from fundamentum.model.plan import Edit, Widen
from fundamentum.webservers import webserver


def web_edits(widened: Iterable[Widen]) -> list[Edit]:
    """Diffs of web servers' files, from the lines as they stand."""
    files: dict[str, dict[int, list[Widen]]] = {}
    for one in widened:
        if one.spot:
            files.setdefault(one.spot.file, {}).setdefault(one.spot.line, []).append(one)
    found = []
    for path, lines in sorted(files.items()):
        out, shift = [f"--- {path}", f"+++ {path}"], 0
        for number, changes in sorted(lines.items()):
            old = changes[0].spot.text if changes[0].spot else ""
            new = old
            for change in (one for one in changes if not one.adds):
                new = _with_value(new, change)
            added = [
                f"{_indented(old, one.server)}{webserver(one.server).statement(one.name, one.after)}"
                for one in changes
                if one.adds
            ]
            many = f",{1 + len(added)}" if added else ""
            out.append(f"@@ -{number} +{number + shift}{many} @@")
            out += [f" {old}"] if new == old else [f"-{old}", f"+{new}"]
            out += [f"+{line}" for line in added]
            shift += len(added)
        found.append(Edit(path, "\n".join(out) + "\n"))
    return found


def _indented(line: str, server: str) -> str:
    """The blanks with which a line behind this one begins."""
    blanks = line[: len(line) - len(line.lstrip())]
    return blanks + ("    " if webserver(server).opens_section(line) else "")


def _with_value(line: str, one: Widen) -> str:
    """The line with another value for the directive, everything else left as it is."""
    pattern = rf"(\b{re.escape(one.name)}\s+)(?:\"[^\"]*\"|[^\s;]+)"
    return re.sub(pattern, lambda match: f"{match[1]}{one.after}", line, count=1, flags=re.I)
