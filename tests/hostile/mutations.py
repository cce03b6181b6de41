"""Ways in which input can be other than anybody expects: values, documents, bytes, files."""

import json
import os
import random
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

TOKEN = "planted-by-an-attack"
"""The name of the file that anything executed would make."""
TEXTS = (
    f"$(touch {TOKEN})", f"`touch {TOKEN}`", f"'; touch {TOKEN}; '", f'"; touch {TOKEN}; "', f"a\ntouch {TOKEN}\n",
    f"E\0ND\ntouch {TOKEN}\n", f"END\ntouch {TOKEN}", f"a' {TOKEN}", "a\\", f"{{{{ lookup('pipe', 'touch {TOKEN}') }}}}",
    f"#jinja2:variable_start_string:'[['\n[[ lookup('pipe','touch {TOKEN}') ]]", f"#jinja2: x\n{{% set a = 1 %}}{TOKEN}",
    "\x1b[2J\x1b]0;x\x07", "\x9b31m", "a\u202eb", "a\u2028b", "\x00", "\x7f", "\r", "\t", "\ufeff", "\ud800", "", " ", ".", "..",
    "../../../../etc/cron.d/x", "/etc/../../x", "-rf", "--help", "%s%n%x", "[bold red]x", "<b>&amp;", "²", "٣", "0x1F", "9" * 30,
    "9" * 5000, "-1", "1e999", "a" * 70_000, "é" * 300, "|", "a|b|c", "=", "[x]", "*", "?", "${HOME}", "%HOME%", "~root", "a b c",
    "unix:/run/x", "php", "8.2", "8.2/fpm/www", "99.99", "www-data\nroot", "user=x", "/dev/zero", "/proc/self/environ", "1:2:3", "~", "^",
)  # fmt: skip
NUMBERS = (0, 1, -1, 2**31, 2**63 - 1, 2**63, -(2**63), 10**30, 1.5, -0.0, 1e308, True)

PRINTABLE = tuple(text for text in TEXTS if all(c.isprintable() for c in text) and len(text) < 400)
"""Those that get through the types, and then meet the rest of the program."""

Json = Any


def value(rng: random.Random, before: Json) -> Json:
    """Another value in the place of one."""
    kind = rng.randrange(10)
    if kind > 7:
        return (
            rng.choice(PRINTABLE)
            if isinstance(before, str)
            else rng.choice((0, 1, 7, 10**9))
            if isinstance(before, int)
            else before
        )
    if kind < 4 and isinstance(before, str):
        text = rng.choice(PRINTABLE if rng.random() < 0.8 else TEXTS)
        return (
            text if kind < 2 else before[: len(before) // 2] + text + (before[len(before) // 2 :] if kind == 3 else "")
        )
    if kind == 4:
        return rng.choice(NUMBERS)
    if kind == 5:
        return rng.choice((None, [], {}, [[]], [None], {"": ""}, [before], {"a": before}))
    if kind == 6 and isinstance(before, list):
        return before * rng.randrange(2, 30)
    return rng.choice(TEXTS)


def places(document: Json, at: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Every place of a document at which a value stands."""
    children = (
        document.items() if isinstance(document, dict) else enumerate(document) if isinstance(document, list) else ()
    )
    for key, child in children:
        yield (*at, key)
        yield from places(child, (*at, key))


def at(document: Json, place: tuple[Any, ...]) -> Json:
    """What stands at a place."""
    for key in place:
        document = document[key]
    return document


def mutated(rng: random.Random, document: Json) -> bytes:
    """A document with a few of its fields changed, dropped, renamed or said twice."""
    document = json.loads(json.dumps(document))
    for _ in range(rng.choice((1, 1, 1, 2, 4))):
        *way, last = rng.choice(list(places(document)))
        holder = at(document, tuple(way))
        action = rng.randrange(12)
        if action == 0:
            del holder[last]
        elif action == 1 and isinstance(holder, dict):
            holder[rng.choice(TEXTS)] = holder.pop(last)
        elif action == 2 and isinstance(holder, list):
            holder.insert(last, holder[last])
        else:
            holder[last] = value(rng, holder[last])
    return json.dumps(document).encode("utf-8", "surrogatepass")


def spoiled(rng: random.Random, data: bytes) -> bytes:
    """Bytes with pieces changed, cut, doubled, or with a hostile text in them."""
    out = bytearray(data)
    for _ in range(rng.choice((1, 1, 2, 5))):
        at, size = rng.randrange(len(out) + 1), rng.choice((1, 1, 4, 64, 1000))
        piece = rng.choice(TEXTS)[:5000].encode("utf-8", "surrogatepass")
        lines = out.split(b"\n")
        line = rng.randrange(len(lines))
        match rng.randrange(7):
            case 0:
                out[at : at + size] = rng.randbytes(size)
            case 1:
                del out[at : at + size]
            case 2:
                out[at:at] = bytes(out[at : at + size]) * rng.choice((2, 50))
            case 3:
                out[at:at] = piece
            case 4:
                lines[line] = lines[line][: rng.randrange(len(lines[line]) + 1)] + piece
                out = bytearray(b"\n".join(lines))
            case 5:
                lines.insert(line, lines[rng.randrange(len(lines))])
                out = bytearray(b"\n".join(lines))
            case _:
                del out[at:]
    return bytes(out[: 4 * 1024 * 1024])


def _loop(path: Path) -> None:
    path.symlink_to(path.name)


def _away(path: Path) -> None:
    path.symlink_to("../" * 30 + "etc/passwd")


def _sparse(path: Path) -> None:
    with path.open("wb") as stream:
        stream.truncate(10 * 1024**3)


KINDS: tuple[Callable[[Path], None], ...] = (
    os.mkfifo, Path.mkdir, _loop, _away, _sparse, lambda path: path.symlink_to("/dev/zero"), lambda path: path.touch(0o000),
)  # fmt: skip
"""What may stand where a file is expected."""


def replaced(rng: random.Random, path: Path) -> None:
    """Something else stands where the file stood."""
    path.unlink()
    rng.choice(KINDS)(path)
