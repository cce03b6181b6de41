"""Changes of single lines of files that are there, as unified diffs."""

import re
from collections.abc import Iterable
from typing import Final

from fundamentum.catalog.setting_line import with_value
from fundamentum.model.actions import AddLines, ChangeLine, Widen
from fundamentum.model.plan import Edit
from fundamentum.webservers import webserver

_UNENDED: Final = "\\ No newline at end of file"


def line_edits(changes: Iterable[Widen | ChangeLine | AddLines]) -> list[Edit]:
    """Diffs of files, from the lines as they stand; one for each file, whatever it is that changes in it."""
    files: dict[str, dict[int, list[Widen | ChangeLine | AddLines]]] = {}
    for one in changes:
        if one.spot:
            files.setdefault(one.spot.file, {}).setdefault(one.spot.line, []).append(one)
    found = []
    for path, lines in sorted(files.items()):
        out, shift = [f"--- {path}", f"+++ {path}"], 0
        for number, here in sorted(lines.items()):
            old = here[0].spot.text if here[0].spot else ""
            new = old
            for change in here:
                if isinstance(change, ChangeLine) or (isinstance(change, Widen) and not change.adds):
                    new = _changed(new, change)
            added = [line for one in here if not isinstance(one, ChangeLine) for line in _added(old, one)]
            many = f",{1 + len(added)}" if added else ""
            out.append(f"@@ -{number} +{number + shift}{many} @@")
            unended = bool(here[0].spot and here[0].spot.unended)
            before = [f"-{old}", _UNENDED] if unended else [f"-{old}"]
            out += [f" {old}"] if new == old and not unended else [*before, f"+{new}"]
            out += [*(f"+{line}" for line in added), *([_UNENDED] if unended else [])]
            shift += len(added)
        inside = any(isinstance(one, ChangeLine) and one.in_document_root for here in lines.values() for one in here)
        found.append(Edit(path, "\n".join(out) + "\n", inside))
    return found


def _added(line: str, one: Widen | AddLines) -> list[str]:
    """The lines that come behind this one, as far to the right as they have to be."""
    if isinstance(one, Widen) and not one.adds:
        return []
    of = webserver(one.server)
    blanks = line[: len(line) - len(line.lstrip())] + ("    " if of.opens_section(line) else "")
    lines = one.lines if isinstance(one, AddLines) else [of.statement(one.name, one.after)]
    return [f"{blanks}{added}" for added in lines]


def _changed(line: str, one: Widen | ChangeLine) -> str:
    """The line with another value for the directive, everything else left as it is."""
    if isinstance(one, ChangeLine):
        return with_value(line, one.syntax, one.name, one.after) or line
    pattern = rf"(\b{re.escape(one.name)}\s+)(?:\"[^\"]*\"|[^\s;]+)"
    return re.sub(pattern, lambda match: f"{match[1]}{one.after}", line, count=1, flags=re.I)
