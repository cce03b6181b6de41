"""Input as it ordinarily is, to be spoiled: small servers of each family, a recording, a page, an application."""

import contextlib
import gzip
import io
import lzma
import sqlite3
import struct
import tarfile
from collections.abc import Callable
from pathlib import Path

import lz4.frame
import zstandard

from tests.around import MORE, USERS, site
from tests.small_root import small_root

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


IIS = b"""<?xml version="1.0"?><configuration><system.applicationHost><sites><site name="nightlog"><application path="/">
<virtualDirectory path="/" physicalPath="C:\\srv\\nightlog"/></application><bindings><binding protocol="https" bindingInformation="*:443:n.example"/>
</bindings></site></sites></system.applicationHost><system.webServer><handlers><add name="php" path="*.php" scriptProcessor="C:\\php\\php-cgi.exe"/>
</handlers><fastCgi><application fullPath="C:\\php\\php-cgi.exe" activityTimeout="30"/></fastCgi><security><requestFiltering>
<requestLimits maxAllowedContentLength="9000000"/></requestFiltering></security></system.webServer></configuration>"""


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
        "etc/os-release": 'ID=observatory\nID_LIKE="rhel"\nPRETTY_NAME="Observatory Linux 9"\n',
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
