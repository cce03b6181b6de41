"""One attack: some input mutated, one command run on it in this process, and what has to hold afterwards.

``attack(random, folder)`` is what ``test_mutated`` runs a few hundred times and ``tools/attack.py`` for as long as it is
told to.
"""

import contextlib
import gzip
import io
import json
import os
import random
import shutil
import socket
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import fundamentum.demo
from fundamentum.cli.main import main
from fundamentum.errors import InputError
from fundamentum.model.safe_text import safe_line
from fundamentum.needs.file import parse
from fundamentum.survey.survey_file import read
from tests.hostile.mutations import TEXTS, TOKEN, mutated, replaced, spoiled
from tests.hostile.samples import IIS, MANIFEST, PACK, PAGE, RECORDED, SOURCE, recording, rpm_root, server_root
from tests.small_root import LISTS, NAME, small_root

DATA = Path(fundamentum.demo.__file__).parent / "data"
SURVEYS = [json.loads((DATA / f"{name}.survey.json").read_bytes()) for name in ("altair", "vega", "deneb")]
NEEDS = [path.read_bytes() for path in sorted(DATA.glob("*.needs.toml"))]
MAX_SECONDS = 30


class Attack(NamedTuple):
    """What was tried and what came of it."""

    words: list[str]
    code: int
    seconds: float
    said: str


def attack(rng: random.Random, folder: Path) -> Attack:
    """Mutate something, run one random command on it, and hold the outcome against what must be so."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    words = rng.choice(ATTACKS)(rng, folder)
    out, err = io.StringIO(), io.StringIO()
    before = time.monotonic()
    here = Path.cwd()
    os.chdir(folder)
    try:
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            try:
                code = main(words)
            except SystemExit as end:
                code = int(end.code or 0)
    finally:
        os.chdir(here)
    done = Attack(words, code, time.monotonic() - before, out.getvalue() + err.getvalue())
    assert code in (0, 1, 2), f"{words}: {err.getvalue()[-500:]}"
    assert done.seconds < MAX_SECONDS, f"{words} took {done.seconds:.0f} s"
    for line in done.said.split("\n"):
        shown = safe_line(line) == line if {"json", "script", "playbook", "-"} & set(words) else line.isprintable()
        assert shown, f"{words} wrote {line!r}"
    assert not list(folder.rglob(TOKEN)), f"{words} executed something"
    return done


def _command(rng: random.Random, needs: Path, server: str) -> list[str]:
    """A random command on an application and a server."""
    form = rng.choice(("text", "json", "script", "playbook"))
    runtime = rng.choice(([], [], ["--runtime", "8.2"], ["--runtime", "8.2/apache2"], ["--runtime", rng.choice(TEXTS)]))
    return rng.choice(
        (
            ["check", str(needs), "--server", server, "--format", rng.choice(("text", "json")), *runtime],
            ["plan", str(needs), "--server", server, "--format", form, *runtime],
            ["plan", str(needs), str(DATA / "nightlog.needs.toml"), "--server", server, "--format", form, *runtime],
            ["survey", server, "--for", str(needs), *rng.choice(([], ["-o", "copy.survey.json"]))],
            ["trace", rng.choice(("gd", "memory_limit", "php8.2-gd", "git", rng.choice(TEXTS))), str(needs), "--server", server],
            ["compare", server, str(DATA / "altair.survey.json"), *rng.choice(([], [str(needs)])), "--format", rng.choice(("text", "json"))],
        )
    )  # fmt: skip


def _taken(rng: random.Random, made: Callable[[], bytes], read: Callable[[bytes], object]) -> bytes:
    """Something mutated; most often something that is still taken, so that it gets further than the reader."""
    data = made()
    for _ in range(12 if rng.random() < 0.8 else 0):
        with contextlib.suppress(InputError, UnicodeDecodeError):
            read(data)
            break
        data = made()
    return data


def _survey(rng: random.Random, folder: Path) -> list[str]:
    path = folder / "x.survey.json"
    path.write_bytes(_taken(rng, lambda: mutated(rng, rng.choice(SURVEYS)), lambda data: read(data, "x")))
    return _command(rng, rng.choice(sorted(DATA.glob("*.needs.toml"))), str(path))


def _needs(rng: random.Random, folder: Path) -> list[str]:
    path, accepted = folder / "x.needs.toml", folder / "x.accepted.toml"
    path.write_bytes(_taken(rng, lambda: spoiled(rng, rng.choice(NEEDS)), lambda data: parse(data.decode(), "x")))
    accepted.write_bytes(spoiled(rng, (DATA / "vega.accepted.toml").read_bytes()))
    if rng.random() < 0.2:
        return ["derive", str(DATA / "platevault"), "-o", str(path)]
    return [*_command(rng, path, str(DATA / f"{rng.choice(('altair', 'vega', 'deneb'))}.survey.json"))]


def _root(rng: random.Random, folder: Path) -> list[str]:
    root = (
        server_root(folder / "root")
        if rng.random() < 0.7
        else rpm_root(folder / "root", packing=rng.choice(("gz", "xz", "zst")))
    )
    index = root / LISTS / NAME
    if index.exists() and rng.random() < 0.2:
        packing = rng.choice(("gz", "xz", "lz4"))
        index.with_name(f"{NAME}.{packing}").write_bytes(PACK[packing](index.read_bytes()))
        index.unlink()
    files = sorted(path for path in root.rglob("*") if path.is_file())
    for path in rng.sample(files, rng.choice((1, 1, 2, 4))):
        if rng.random() < 0.15:
            replaced(rng, path)
        else:
            path.write_bytes(spoiled(rng, path.read_bytes()))
    return _command(rng, rng.choice(sorted(DATA.glob("*.needs.toml"))), str(root))


def _recording(rng: random.Random, folder: Path) -> list[str]:
    members = dict(RECORDED)
    name = rng.choice(sorted(members))
    members[name] = spoiled(rng, members[name])
    data = recording(members)
    data = rng.choice((data, gzip.compress(data), spoiled(rng, data), spoiled(rng, gzip.compress(data))))
    path = folder / "x.recording.tar"
    path.write_bytes(data)
    return _command(rng, rng.choice(sorted(DATA.glob("*.needs.toml"))), str(path))


def _page(rng: random.Random, folder: Path) -> list[str]:
    path = folder / "page.html"
    path.write_bytes(spoiled(rng, PAGE.encode()))
    return _command(rng, rng.choice(sorted(DATA.glob("*.needs.toml"))), str(path))


def _tree(rng: random.Random, folder: Path) -> list[str]:
    files = {
        "index.php": SOURCE,
        "composer.json": MANIFEST,
        ".user.ini": b"memory_limit = 300M\n",
        ".htaccess": b"php_value upload_max_filesize 20M\n",
    }
    odd = rng.choice(("a b.php", "a'$(touch x).php", "\x1b[2J.php", "é.php", "lib/vendor/x/y/z.php"))
    for name, content in {**files, odd: SOURCE}.items():
        path = folder / "app" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(spoiled(rng, content) if rng.random() < 0.5 else content)
    if rng.random() < 0.2:
        replaced(rng, folder / "app" / rng.choice(sorted(files)))
    end = rng.choice(([], ["-o", "-"], ["-o", "x.needs.toml"], ["--explain", "gd"], ["--explain", rng.choice(TEXTS)]))
    return rng.choice(
        (["derive", "app", "--fresh", *end], ["check", "app", "--server", str(DATA / "vega.survey.json")])
    )


def _peer(rng: random.Random, folder: Path) -> list[str]:
    """A web server, a database server or a pool that says something else."""
    kind = rng.choice(("http", "database", "pool"))
    whole = {
        "http": b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: %d\r\n\r\n%s"
        % (len(PAGE), PAGE.encode()),
        "database": b"J\0\0\0\x0a5.5.5-10.11.6-MariaDB\0abc",
        "pool": b"\1\6\0\1\0\x2a\0\0\nANSWER" + b'[["gd","Core"],{"memory_limit":"9M"}]  ' + b"\1\3\0\1\0\0\0\0",
    }[kind]
    data = spoiled(rng, whole)
    if kind == "pool":
        root = small_root(folder / "root")
        (root / "run/php").mkdir(parents=True)
        once(data, str(root / "run/php/php8.2-fpm.sock"))
        return ["survey", str(root), "--ask-pools"]
    port = once(data)
    needs, altair = str(DATA / "platevault.needs.toml"), str(DATA / "altair.survey.json")
    return (
        ["survey", f"http://127.0.0.1:{port}/info.php"]
        if kind == "http"
        else ["check", needs, "--server", altair, "--database", f"127.0.0.1:{port}"]
    )


def once(data: bytes, path: str | None = None) -> int:
    """Answer with these bytes whoever asks, a few times; the port."""
    server = socket.socket(socket.AF_UNIX if path else socket.AF_INET)
    server.bind(path or ("127.0.0.1", 0))
    server.listen()
    server.settimeout(5)

    def serve() -> None:
        with server, contextlib.suppress(OSError):
            for _ in range(3):
                connection, _ = server.accept()
                with connection:
                    connection.settimeout(1)
                    connection.sendall(data)
                    connection.recv(65536)

    threading.Thread(target=serve, daemon=True).start()
    return 0 if path else int(server.getsockname()[1])


def _windows(rng: random.Random, folder: Path) -> list[str]:
    library = b"MZ" + bytes(60) + b"X-Powered-By: PHP/8.2.9\0API20220829,NTS,VS16\0"
    files = {
        "php/php.exe": library, "php/php-cgi.exe": library, "php/php8.dll": library, "php/php.ini": b"memory_limit = 64M\r\nextension=gd\r\n",
        "php/ext/php_gd.dll": library, "Windows/System32/inetsrv/config/applicationHost.config": IIS, "srv/nightlog/web.config": IIS,
        "bundle/apache/conf/httpd.conf": b'ServerRoot "C:/bundle/apache"\r\nLoadModule php_module "C:/php/php8apache2_4.dll"\r\n',
    }  # fmt: skip
    for name, content in files.items():
        path = folder / "drive" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(spoiled(rng, content) if rng.random() < 0.4 else content)
    return _command(rng, rng.choice(sorted(DATA.glob("*.needs.toml"))), str(folder / "drive"))


def _words(rng: random.Random, folder: Path) -> list[str]:
    """The words of the command line themselves."""
    words = _command(rng, DATA / "nightlog.needs.toml", str(DATA / "vega.survey.json"))
    words[rng.randrange(len(words))] = rng.choice(TEXTS).replace("/dev/zero", "")
    return [word for word in words if "ssh://" not in word]


ATTACKS: tuple[Callable[[random.Random, Path], list[str]], ...] = (
    _survey, _survey, _survey, _needs, _root, _root, _root, _recording, _page, _tree, _words, _peer, _windows,
)  # fmt: skip
