"""Changes of a php.ini that has no directory of additions beside it: as a unified diff, line by line."""

from collections.abc import Iterable, Sequence

from fundamentum.catalog.setting_line import ini_text
from fundamentum.model.actions import AddLine, Set
from fundamentum.model.php import Runtime
from fundamentum.model.plan import DropIn, Edit


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
        number = setting.origin.line if setting and setting.origin.file == path else None
        if number in runtime.ini_lines:
            changes[number] = text
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


def _plain(text: str) -> str:
    """A commented line without its blanks, ending and the ``php_`` and ``.dll`` that may be written out."""
    words = "".join(text.split()).lower()
    return words.replace("=php_", "=").removesuffix(".dll")
