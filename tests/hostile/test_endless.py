"""Input without an end: it ends in time, within memory, and what is therefore unknown is said."""

import gzip
import io
import lzma
import os
import sqlite3
import tarfile
import threading
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from functools import partial
from pathlib import Path
from typing import Any

import lz4.frame
import pytest

from tests.around import around_root
from tests.hostile.attacks import DATA
from tests.hostile.mutations import KINDS
from tests.hostile.program import Ran, run
from tests.hostile.samples import RECORDED, header, recording, rpm_root
from tests.small_root import LISTS, NAME, small_root

pytestmark = pytest.mark.long
NIGHTLOG = DATA / "nightlog.needs.toml"
PLAIN = "[PHP]\nmemory_limit = 1M\n"


def check(server: Path, *words: str) -> Ran:
    return run("check", NIGHTLOG, "--server", server, "--runtime", "8.2", *words)


def sparse(path: Path, size: int) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("r+b" if path.exists() else "wb") as stream:
        stream.truncate(size)


# --- A server's files.


def apache(lines: str) -> dict[str, str | bytes]:
    return {"etc/apache2/apache2.conf": "ServerRoot /etc/apache2\n" + lines}


DEFINES = (
    "Define A0 "
    + "x" * 50
    + "\n"
    + "".join(f"Define A{n + 1} ${{A{n}}}${{A{n}}}\n" for n in range(60))
    + "ServerName ${A60}\n"
)
INCLUDES = {f"etc/apache2/loop/{name}.conf": "Include loop/*.conf\n" + "ServerName x\n" * 40_000 for name in "abc"}
NGINX = {f"etc/nginx/loop/{name}.conf": "include /etc/nginx/loop/*.conf;\n" + "a b;\n" * 10_000 for name in "abc"}
GROWING = "a0 = " + "x" * 100 + "\n" + "".join(f"a{n + 1} = ${{a{n}}}${{a{n}}}\n" for n in range(40))
FILES: dict[str, dict[str, str | bytes]] = {
    "chains of variables in Apache": apache(DEFINES),
    "files of Apache that include one another": {**apache("Include loop/*.conf\n"), **INCLUDES},
    "files of nginx that include one another": {"etc/nginx/nginx.conf": "http { include /etc/nginx/loop/*.conf; }", **NGINX},
    "blocks of nginx without end": {"etc/nginx/nginx.conf": "a{" * 300_000},
    "statements of nginx without end": {"etc/nginx/nginx.conf": "http {" + "a;" * 1_500_000 + "}"},
    "sections of Apache without end": apache("<Directory /x>\n" * 200_000),
    "modules of Apache without end": apache("".join(f"LoadModule m{n}_module x\n<IfModule q{n}>\n</IfModule>\n" for n in range(60_000))),
    "a line of Apache without end": apache("<Directory " + " " * 3_000_000 + "x\n" + "a\\\n" * 500_000),
    "blank lines in Apache's variables": {"etc/apache2/envvars": "\n" * 900_000},
    "brackets in a preference": {"etc/apt/preferences": "Package: " + "[" * 900_000 + "\nPin: release *\nPin-Priority: 1\n"},
    "expressions in preferences": {"etc/apt/preferences": f"Package: /{'p*h*' * 19}x/\nPin: release *\nPin-Priority: 1\n\n" * 9000},
    "blanks before a value": {"etc/php/8.2/fpm/conf.d/50-x.ini": "memory_limit =" + " " * 900_000 + "1M\r\n"},
    "values that refer to one another": {"etc/php/8.2/fpm/conf.d/50-x.ini": GROWING},
    "a value set again and again": {"etc/php/8.2/fpm/conf.d/50-x.ini": "memory_limit = 1M\n" * 15_000},
    "expressions without end": {"etc/php/8.2/fpm/conf.d/50-x.ini": "error_reporting = " + "~" * 300_000 + "1\n"},
    "pools that include one another": {"etc/php/8.2/fpm/pool.d/a.conf": "include=/etc/php/8.2/fpm/pool.d/*.conf\n"},
    "one long stanza in an index": {f"{LISTS}/{NAME}": "Package: php8.2-x\n" * 1_000_000},
    "names without end in an index": {f"{LISTS}/{NAME}": "".join(f"Package: php8.2-{n}\nVersion: 1\n\n" for n in range(500_000))},
    "dependencies without end": {f"{LISTS}/{NAME}": "".join(f"Package: php8.2-{n}\nVersion: 1\nDepends: php8.2-{n + 1}, q{n}\nProvides: q{n - 1}\n\n" for n in range(60_000))},
    "names without end in the status file": {"var/lib/dpkg/status": "".join(f"Package: a{n}\nStatus: install ok installed\nVersion: 1\n\n" for n in range(300_000))},
    "one package without end in the status file": {"var/lib/dpkg/status": "Package: dpkg\n" * 1_000_000},
    "odd versions": {"var/lib/dpkg/status": "Package: php8.2-gd\nStatus: install ok installed\nVersion: ²:-\n\n", f"{LISTS}/{NAME}": "Package: php8.2-gd\nVersion: _^\n\nPackage: php8.2-gd\nVersion: ²\n\n"},
    "digits of other scripts": {"etc/passwd": "www-data:x:²:³::\n", "etc/group": "www-data:x:²:www-data\n", "etc/cron.d/x": "² ² ² ² ² x /srv/nightlog/bin/aggregate.php\n"},
}  # fmt: skip


@pytest.mark.parametrize("case", FILES)
def test_files_of_a_server(tmp_path: Path, case: str) -> None:
    check(around_root(tmp_path, extra=FILES[case]))


@pytest.mark.parametrize(
    "path",
    [
        "var/lib/dpkg/status",
        f"{LISTS}/{NAME}",
        "etc/php/8.2/fpm/php.ini",
        "etc/nginx/nginx.conf",
        "usr/sbin/php-fpm8.2",
    ],
)
def test_sparse_files(tmp_path: Path, path: str) -> None:
    root = around_root(tmp_path)
    sparse(root / path, 10 * 1024**3)
    done = check(root)
    if path.endswith(("status", "Packages", "php.ini", "nginx.conf")):
        assert "larger than" in done.err


@pytest.mark.parametrize("kind", range(len(KINDS)))
@pytest.mark.parametrize("path", ["etc/os-release", "etc/php/8.2/fpm/php.ini", "etc/php/8.2/fpm/pool.d/www.conf", "var/lib/dpkg/status", "usr/lib/php/20220829", "var/lib/rpm"])  # fmt: skip
def test_something_else_where_a_file_is_expected(tmp_path: Path, path: str, kind: int) -> None:
    root = rpm_root(tmp_path) if path == "var/lib/rpm" else around_root(tmp_path)
    target = root / path
    if target.exists():
        target.rename(target.with_name("moved"))
    target.parent.mkdir(parents=True, exist_ok=True)
    KINDS[kind](target)
    run("survey", root)
    check(root)


def test_a_scan_directory_of_a_hundred_thousand_files(tmp_path: Path) -> None:
    folder = small_root(tmp_path) / "etc/php/8.2/fpm/conf.d"
    for number in range(100_000):
        (folder / f"{number}.ini").touch()
    done = check(tmp_path)
    assert "not listed" in done.err or "not read" in done.err
    assert "8 cannot be told" in done.out and "\nmet (4)" in done.out, (
        "what those files set is not taken for the default"
    )


@pytest.mark.parametrize("packing", ["gz", "xz", "lz4"])
def test_an_index_that_unpacks_to_a_gigabyte(tmp_path: Path, packing: str) -> None:
    root = small_root(tmp_path, index=None)
    path = root / LISTS / f"{NAME}.{packing}"
    path.parent.mkdir(parents=True, exist_ok=True)
    openers: dict[str, Any] = {
        "gz": partial(gzip.open, compresslevel=1),
        "xz": partial(lzma.open, preset=0),
        "lz4": lz4.frame.open,
    }
    with openers[packing](path, "wb") as stream:
        for _ in range(1024 if packing != "xz" else 300):
            stream.write(b"\n" * 1024 * 1024)
    assert "larger than" in check(root).err


def _alias_bomb() -> str:
    lines = ["a0: &a0 [x, x, x, x, x, x, x, x, x, x]"] + [
        f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 10)}]" for n in range(1, 12)
    ]
    body = "\n".join(f"  {line}" for line in lines)
    return f"---\ndocument: modulemd\ndata:\n{body}\n  name: php\n  stream: '8.2'\n  version: 1\n  artifacts:\n    rpms: *a11\n"


RPM: dict[str, tuple[str, str]] = {
    "an alias bomb": (_alias_bomb(), ""),
    "nested lists": ("---\nname: php\nx: " + "[" * 200_000 + "]" * 200_000, ""),
    "a package without end": ("", '<metadata xmlns="http://linux.duke.edu/metadata/common"><package>' + "<a/>" * 4_000_000),
    "entities": ("", '<!DOCTYPE x [<!ENTITY a "' + "x" * 1000 + '">' + "".join(f'<!ENTITY {chr(98 + n)} "{f"&{chr(97 + n)};" * 20}">' for n in range(10)) + "]><x>&k;</x>"),
}  # fmt: skip


@pytest.mark.parametrize("case", RPM)
def test_metadata_of_repositories(tmp_path: Path, case: str) -> None:
    modules, primary = RPM[case]
    run("survey", rpm_root(tmp_path, modules or "---\n", primary or "<metadata/>"))


def _view(database: sqlite3.Connection) -> None:
    database.execute("DROP TABLE Packages")
    database.execute(
        "CREATE VIEW Packages AS WITH RECURSIVE r(hnum) AS (SELECT 1 UNION ALL SELECT hnum + 1 FROM r) SELECT hnum, zeroblob(9) AS blob FROM r"
    )


def _blobs(database: sqlite3.Connection) -> None:
    for size in (120_000_000, 120_000_000):
        database.execute("INSERT INTO Packages (blob) VALUES (zeroblob(?))", (size,))


def _many(database: sqlite3.Connection) -> None:
    database.executemany(
        "INSERT INTO Packages (blob) VALUES (?)", ((header("x" * 1000, str(n), "1"),) for n in range(120_000))
    )


@pytest.mark.parametrize("made", [_view, _blobs, _many])
def test_databases_of_packages(tmp_path: Path, made: Callable[[sqlite3.Connection], None]) -> None:
    root = rpm_root(tmp_path)
    with closing(sqlite3.connect(root / "var/lib/rpm/rpmdb.sqlite")) as database:
        made(database)
        database.commit()
    assert "installed packages" in run("survey", root).err


# --- What is given on the command line.


def _sparse_member() -> bytes:
    """A few hundred bytes that say they are 23 GB."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.GNU_FORMAT) as archive:
        about = tarfile.TarInfo("./content/1")
        about.type = tarfile.GNUTYPE_SPARSE
        archive.addfile(about)
    data = bytearray(out.getvalue())
    data[483:495] = b"%011o\0" % (23 * 1024**3)  # the real size, behind the map of what is there
    data[386:410] = b"%011o\0%011o\0" % (0, 0)
    data[148:156] = b"        "
    data[148:156] = b"%06o\0 " % sum(data[:512])
    return bytes(data)


NAMED: dict[str, Callable[[], bytes]] = {
    "a sparse member": _sparse_member,
    "a packed sparse member": lambda: gzip.compress(_sparse_member()),
    "a large member": lambda: gzip.compress(recording({**RECORDED, "content/1": bytes(300_000_000)}), 1),
    "many members": lambda: gzip.compress(recording({**RECORDED, **{f"content/{n}": b"" for n in range(100_000)}}), 1),
    "many paths": lambda: recording(
        {**RECORDED, "stats": b"".join(b"81a4 1 1 1 0 0 /a/%d\n" % n for n in range(500_000))}
    ),
    "links in a circle": lambda: recording({**RECORDED, "links": b"/etc\t/var\n/var\t/etc\n"}),
    "deep JSON": lambda: b'{"format":1,"server":' + b"[" * 200_000,
    "many small values": lambda: (
        b'{"format":1,"server":"x","system":{},"remarks":[' + b'{"about":"aa","why":"bb"},' * 900_000 + b"]}"
    ),
    "a long survey": lambda: b'{"format":1,"server":"' + b"x" * 100_000_000 + b'"}',
    "a page of tables": lambda: b"<title>phpinfo()</title>" + b"<table><tr><td>" * 500_000,
    "a page of text": lambda: b"PHP Version => 8.2\n" + b"a => b => c\n" * 600_000,
}


@pytest.mark.parametrize("case", NAMED)
def test_recordings_surveys_and_pages(tmp_path: Path, case: str) -> None:
    path = tmp_path / "x"
    path.write_bytes(NAMED[case]())
    run("check", NIGHTLOG, "--server", path, "--runtime", "8.2")


APPS: dict[str, bytes] = {
    "a key nested 3,000 deep": b'format = 1\n[application]\nname = "x"\n[settings.required]\n'
    + b".".join([b"a"] * 3000)
    + b' = "on"\n',
    "a table nested deep": b"[" + b".".join([b"a"] * 5000) + b"]\n",
    "a list nested deep": b"a = " + b"[" * 100_000,
    "a number without end": b"format = " + b"9" * 100_000,
    "more than any needs file": b"#" * 3_000_000,
    "keys of parts without end": b"1." * 400_000,
    "keys in a table of parts without end": b"a = {" + b"'a' . " * 200_000,
    "mistakes without end": b"[settings.required]\n" + b"".join(b'a_%d = "x"\n' % n for n in range(50_000)),
    "acceptances without end": b"format = 1\n" + b'[[accepted]]\nneed="php"\nreason="x"\nby="x"\n' * 20_000,
    "a header of blanks": b'["' + b" " * 900_000 + b'"]\n',
    "lines without end": b"\n" * 900_000,
}


@pytest.mark.parametrize("case", APPS)
@pytest.mark.parametrize("ending", ["needs", "accepted"])
def test_needs_and_acceptances(tmp_path: Path, case: str, ending: str) -> None:
    path = tmp_path / f"x.{ending}.toml"
    path.write_bytes(APPS[case])
    words = [path] if ending == "needs" else [NIGHTLOG, "--accepted", path]
    done = run("check", *words, "--server", DATA / "altair.survey.json")
    lines = done.err.splitlines()
    assert done.code == 2 and 1 <= len(lines) <= 3 and all(line.startswith(f"fundamentum: {path}") for line in lines)


@pytest.mark.parametrize("sign", ["[a](", "<li>", "`", "PHP 8.1 ", "php8.1-{"])
def test_a_text_of_one_sign(tmp_path: Path, sign: str) -> None:
    path = tmp_path / "requirements.md"
    path.write_text(f"# Requirements\nPHP 8.1\n\n{sign * (900_000 // len(sign))}")
    assert run("needs", path).code == 0


@contextmanager
def fed(path: Path, content: bytes) -> Iterator[Path]:
    """A named pipe that somebody writes into, as the shell's ``<(...)`` makes one."""
    os.mkfifo(path)
    writer = threading.Thread(target=lambda: path.write_bytes(content), daemon=True)
    writer.start()
    yield path


def test_pipes_are_read_and_devices_are_not(tmp_path: Path) -> None:
    altair = DATA / "altair.survey.json"
    with (
        fed(tmp_path / "needs", NIGHTLOG.read_bytes()) as needs,
        fed(tmp_path / "survey", altair.read_bytes()) as survey,
    ):
        assert run("check", needs, "--server", survey).code == 0
    for device in ("/dev/zero", "/dev/urandom", "/dev/full"):
        for words in (
            ["check", device],
            ["check", NIGHTLOG, "--server", device],
            ["check", NIGHTLOG, "--accepted", device],
        ):
            done = run(*words)
            assert done.code == 2 and "is a device" in done.err


@pytest.mark.parametrize(
    "words",
    [["check", ""], ["check", NIGHTLOG, "--server", ""], ["derive", ""], ["survey", ""], ["survey", "-o", ""], ["plan", NIGHTLOG, "--index", ""],
     ["plan", NIGHTLOG, "--server", DATA / "vega.survey.json", "--write-files", ""], ["check", NIGHTLOG, "--accepted", ""], ["compare", "", ""]],
)  # fmt: skip
def test_an_empty_word_is_not_the_current_directory(tmp_path: Path, words: list[str | Path]) -> None:
    small_root(tmp_path)
    done = run(*words, cwd=tmp_path)
    assert done.code == 2 and "is empty" in done.err


def test_a_directory_without_php_and_with_loops(tmp_path: Path) -> None:
    (tmp_path / "a").symlink_to("b")
    (tmp_path / "b").symlink_to("a")
    (tmp_path / "c").symlink_to("c/d")
    assert run("survey", tmp_path).code == 2
    if Path("/usr/share/doc").is_dir():
        assert run("survey", "/usr/share/doc").code == 2
