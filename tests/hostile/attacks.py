"""One attack: some input mutated, one command run on it in this process, and what has to hold afterwards.

``attack(random, folder)`` is what ``test_mutated`` runs a few hundred times and ``tools/attack.py`` for as long as it is
told to.
"""

import contextlib
import gzip
import io
import json
import lzma
import os
import random
import shutil
import sqlite3
import struct
import tarfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import lz4.frame
import zstandard

import fundamentum.demo
from fundamentum.cli.main import main
from fundamentum.errors import InputError
from fundamentum.needs.file import parse
from fundamentum.server.survey import read
from tests.around import MORE, USERS, site
from tests.hostile.mutations import TEXTS, TOKEN, mutated, replaced, spoiled
from tests.small_root import LISTS, NAME, small_root

DATA = Path(fundamentum.demo.__file__).parent / "data"
SURVEYS = [json.loads((DATA / f"{name}.survey.json").read_bytes()) for name in ("altair", "vega", "deneb")]
NEEDS = [path.read_bytes() for path in sorted(DATA.glob("*.needs.toml"))]
MAX_SECONDS = 30
APACHE = """ServerRoot /etc/apache2
Define ROOT /srv/nightlog
LoadModule proxy_fcgi_module /usr/lib/apache2/modules/mod_proxy_fcgi.so
LimitRequestBody 1000000
<VirtualHost *:80>
    ServerName nightlog.observatory.example
    DocumentRoot ${ROOT}/public
    <FilesMatch "\\.php$">
        SetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"
    </FilesMatch>
</VirtualHost>
Include sites-enabled/*.conf
"""
PAGE = (
    "<html><title>phpinfo()</title><body><h1>PHP Version 8.2.9</h1><table><tr><td>System</td><td>Linux altair 6.1 x86_64</td></tr>"
    "<tr><td>Server API</td><td>FPM/FastCGI</td></tr></table><h2>Core</h2><table><tr><th>Directive</th><th>Local</th><th>Master</th></tr>"
    "<tr><td>memory_limit</td><td>128M</td><td>64M</td></tr></table><h2>gd</h2></body></html>"
)
MODULES = """---
document: modulemd
version: 2
data:
  name: php
  stream: "8.2"
  version: 1
  artifacts:
    rpms: ["php-cli-0:8.2.1-1.x86_64", "php-gd-0:8.2.1-1.x86_64"]
---
document: modulemd-defaults
data: {module: php, stream: "8.2"}
"""
PRIMARY = """<?xml version="1.0"?><metadata xmlns="http://linux.duke.edu/metadata/common" xmlns:rpm="http://linux.duke.edu/metadata/rpm">
<package type="rpm"><name>php-gd</name><arch>x86_64</arch><version epoch="0" ver="8.2.1" rel="1"/><format><rpm:provides>
<rpm:entry name="php-gd" flags="EQ" epoch="0" ver="8.2.1"/></rpm:provides><rpm:requires><rpm:entry name="php-common"/></rpm:requires>
</format></package></metadata>"""
SOURCE = b"""<?php
namespace app; use PDO;
if (!extension_loaded('gd')) { die('gd is required'); }
$needed = ['mbstring', 'curl', 'intl'];
foreach ($needed as $one) if (!extension_loaded($one)) $missing[] = $one;
if (version_compare(PHP_VERSION, '8.1', '<')) exit;
function f() { return function_exists('imagecreate') ? imagecreate(1, 1) : \\curl_init(); }
ini_set('memory_limit', '256M'); exec('git --version'); new PDO("mysql:host=x");
"""
MANIFEST = b'{"name": "observatory/nightlog", "version": "1.2", "require": {"php": ">=8.1 <8.5", "ext-gd": "*"}, "suggest": {"ext-intl": "dates"}}'


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
    bad = {c for c in done.said if not c.isprintable() and c != "\n"} - (
        {"\t"} if "script" in words or "playbook" in words else set()
    )
    assert not bad, f"{words} wrote {bad}"
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


def server_root(folder: Path) -> Path:
    """A small server with everything that is read of one."""
    return small_root(
        folder, ["ctype", "pdo"], MORE, "memory_limit = 200M\n;extension=gd\n[PATH=/x]\na = ${b}\n",
        {
            "etc/nginx/nginx.conf": "events {}\nhttp { include sites-enabled/*; }\n",
            "etc/nginx/sites-enabled/nightlog": site(server="    client_max_body_size 9m;\n"),
            "etc/apache2/apache2.conf": APACHE, "etc/apache2/envvars": "export APACHE_RUN_USER=www-data\n",
            "etc/apache2/mods-enabled/mpm_event.load": "LoadModule mpm_event_module x.so\n",
            "srv/nightlog/public/index.php": "<?php\n", "srv/nightlog/var/x": "", **USERS,
            "etc/cron.d/nightlog": "*/5 * * * * www-data php /srv/nightlog/bin/aggregate.php\n",
            "etc/systemd/system/nightlog.service": "[Service]\nExecStart=/usr/local/bin/php -S x\nUser=www-data\n",
            "etc/systemd/system/nightlog.timer": "[Timer]\nOnCalendar=daily\n",
            "etc/apt/preferences": "Package: php*\nPin: release n=bookworm\nPin-Priority: 900\n",
            "var/lib/apt/lists/mirror_debian_dists_bookworm_InRelease": "Origin: Debian\nLabel: Debian\nSuite: stable\nCodename: bookworm\n",
        },
    )  # fmt: skip


def rpm_root(folder: Path, modules: str = MODULES, primary: str = PRIMARY, packing: str = "gz") -> Path:
    """A small server of the other family: a database of packages, and one repository's metadata."""
    files = {
        "etc/os-release": 'ID=rocky\nVERSION_ID="9"\nPRETTY_NAME="Rocky Linux 9"\n',
        "etc/yum.repos.d/base.repo": "[base]\nname=Base\nenabled=1\n",
        "etc/php.ini": "memory_limit = 64M\n", "etc/php.d/20-gd.ini": "extension=gd\n", "usr/lib64/php/modules/none": "",
    }  # fmt: skip
    for name, text in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text)
    cache = folder / "var/cache/dnf/base-0123456789abcdef/repodata"
    cache.mkdir(parents=True)
    places = f'<data type="primary"><location href="repodata/primary.xml.{packing}"/></data><data type="modules"><location href="repodata/modules.yaml.{packing}"/></data>'
    (cache / "repomd.xml").write_text(f'<repomd xmlns="http://linux.duke.edu/metadata/repo">{places}</repomd>')
    (cache / f"primary.xml.{packing}").write_bytes(PACK[packing](primary.encode()))
    (cache / f"modules.yaml.{packing}").write_bytes(PACK[packing](modules.encode()))
    (folder / "var/lib/rpm").mkdir(parents=True)
    with contextlib.closing(sqlite3.connect(folder / "var/lib/rpm/rpmdb.sqlite")) as database:
        database.execute("CREATE TABLE Packages (hnum INTEGER PRIMARY KEY AUTOINCREMENT, blob BLOB NOT NULL)")
        database.execute("INSERT INTO Packages (blob) VALUES (?)", (header("php-common", "8.2.1", "1"),))
        database.commit()
    return folder


def header(name: str, version: str, release: str) -> bytes:
    """A package's header as rpm keeps it."""
    store, entries = b"", b""
    for tag, text in ((1000, name), (1001, version), (1002, release), (1022, "x86_64")):
        entries += struct.pack(">IIII", tag, 6, len(store), 1)
        store += text.encode() + b"\0"
    return struct.pack(">II", 4, len(store)) + entries + store


PACK: dict[str, Callable[[bytes], bytes]] = {
    "gz": gzip.compress, "xz": lzma.compress, "lz4": lz4.frame.compress, "zst": zstandard.compress,
}  # fmt: skip


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


def recording(members: dict[str, bytes]) -> bytes:
    """An archive as the recorder writes it."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        for name, content in members.items():
            about = tarfile.TarInfo(f"./{name}")
            about.size = len(content)
            archive.addfile(about, io.BytesIO(content))
    return out.getvalue()


RECORDED = {
    "format": b"1\n", "hostname": b"vega\n",
    "stats": b"41ed 0 1.0 1.0 0 0 /etc\n81a4 30 1.0 1.0 0 0 /etc/os-release\n41ed 0 1.0 1.0 0 0 /etc/php\n81a4 9 1 1 0 0 /var/lib/dpkg/status\n",
    "contents": b"1\t30\t/etc/os-release\n2\t9\t/var/lib/dpkg/status\n", "content/1": b"ID=debian\n", "content/2": b"Package: dpkg\nVersion: 1\n",
    "processes": b"seen\t12.5\tnginx: master\t/usr/sbin/nginx\n", "links": b"/var/run\t/run\n", "grants": b"# file: /etc\nuser:33:rwx\n",
}  # fmt: skip


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


def _words(rng: random.Random, folder: Path) -> list[str]:
    """The words of the command line themselves."""
    words = _command(rng, DATA / "nightlog.needs.toml", str(DATA / "vega.survey.json"))
    words[rng.randrange(len(words))] = rng.choice(TEXTS).replace("/dev/zero", "")
    return [word for word in words if "ssh://" not in word]


ATTACKS: tuple[Callable[[random.Random, Path], list[str]], ...] = (
    _survey, _survey, _survey, _needs, _root, _root, _recording, _page, _tree, _words,
)  # fmt: skip
