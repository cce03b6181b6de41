"""Changes of a php.ini that has no directory of additions beside it: as a unified diff, line by line."""

import re
from collections.abc import Iterable, Sequence

from fundamentum.model.php import Runtime
from fundamentum.model.plan import AddLine, DropIn, Edit, Set, Widen
from fundamentum.plan.actions import ini_text


def edits(
    lines: Sequence[AddLine], settings: Sequence[Set], runtimes: Iterable[Runtime]
) -> tuple[list[Edit], list[DropIn], list[AddLine], list[Set]]:
    """Diffs for files that are there, whole files where there is none; and the changes that neither is for."""
    found: list[Edit] = []
    fresh: list[DropIn] = []
    done: set[str] = set()
    for runtime in runtimes:
        path = runtime.ini_file or f"{runtime.home.rstrip('/')}/php.ini"
        if runtime.scan_dir or path in done:
            continue
        mine = [one for one in lines if one.file == path]
        limits = [one for one in settings if one.file == path]
        if not mine and not limits:
            continue
        done.add(path)
        if runtime.ini_file is None:
            body = ["; Written as planned by fundamentum.", 'extension_dir = "ext"', *(one.line for one in mine)]
            body += [f"{one.name} = {ini_text(one.after) or ''}" for one in limits]
            fresh.append(DropIn(path, "\n".join(body) + "\n"))
        elif runtime.ini_length:
            found.append(_edit(path, mine, limits, runtime))
    return (
        found,
        fresh,
        [one for one in lines if one.file not in done],
        [one for one in settings if one.file not in done],
    )


def _edit(path: str, lines: Sequence[AddLine], settings: Sequence[Set], runtime: Runtime) -> Edit:
    changes: dict[int, str] = {}
    added: list[str] = []
    end = "\r" if any(line.endswith("\r") for line in runtime.ini_lines.values()) else ""
    for one in lines:
        wanted = one.line.lower()
        number = next((n for n, text in runtime.ini_lines.items() if _plain(text) == ";" + wanted), None)
        if number:
            changes[number] = one.line + end
        else:
            added.append(one.line + end)
    for change in settings:
        setting = runtime.settings.get(change.name)
        text = f"{change.name} = {ini_text(change.after) or ''}".rstrip() + end
        place, _, digits = (setting.origin if setting else "").rpartition(":")
        if place == path and digits.isdigit() and int(digits) in runtime.ini_lines:
            changes[int(digits)] = text
        else:
            added.append(text)
    out = [f"--- {path}", f"+++ {path}"]
    for number, text in sorted(changes.items()):
        out += [f"@@ -{number} +{number} @@", f"-{runtime.ini_lines[number]}", f"+{text}"]
    if added:
        last = runtime.ini_length
        many = f",{len(added)}" if len(added) > 1 else ""
        out += [f"@@ -{last},0 +{last + 1}{many} @@", *(f"+{one}" for one in added)]
    return Edit(path, "\n".join(out) + "\n")


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
            added = [f"{_indented(old)}{_statement(one)}" for one in changes if one.adds]
            many = f",{1 + len(added)}" if added else ""
            out.append(f"@@ -{number} +{number + shift}{many} @@")
            out += [f" {old}"] if new == old else [f"-{old}", f"+{new}"]
            out += [f"+{line}" for line in added]
            shift += len(added)
        found.append(Edit(path, "\n".join(out) + "\n"))
    return found


def _statement(one: Widen) -> str:
    return f"{one.name} {one.after}{';' if one.server == 'nginx' else ''}"


def _indented(line: str) -> str:
    """The blanks with which a line begins; a line in a section of Apache's stands deeper than the section's own."""
    blanks = line[: len(line) - len(line.lstrip())]
    return blanks + ("    " if line.lstrip().startswith("<") else "")


def _with_value(line: str, one: Widen) -> str:
    """The line with another value for the directive, everything else left as it is."""
    pattern = rf"(\b{re.escape(one.name)}\s+)(?:\"[^\"]*\"|[^\s;]+)"
    return re.sub(pattern, lambda match: f"{match[1]}{one.after}", line, count=1, flags=re.I)


def _plain(text: str) -> str:
    """A commented line without its blanks, ending and the ``php_`` and ``.dll`` that may be written out."""
    words = "".join(text.split()).lower()
    return words.replace("=php_", "=").removesuffix(".dll")
