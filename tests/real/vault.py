"""A server that takes uploads through nginx and a pool, Apache and a pool, and the module inside Apache."""

import http.client
import os
import signal
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import NamedTuple

from debian_root import STORE, Root, with_libraries

from .running import start_fpm, stop, wait_for

PORTS = {"platevault": 8173, "nightlog": 8174, "domekeeper": 8174}
NGINX = """\
server {
    listen 127.0.0.1:8173;
    server_name platevault.observatory.example;
    root /srv/platevault/public;
    location / { try_files $uri /index.php?$args; }
    location ~ \\.php$ {
        include snippets/fastcgi-php.conf;
        client_max_body_size 3m;  # a comment
        fastcgi_read_timeout 2s;
        fastcgi_pass unix:/run/php/php8.2-fpm.sock;
    }
}
"""
APACHE = """\
Listen 127.0.0.1:8174
ServerName vega
Timeout 2
<VirtualHost 127.0.0.1:8174>
    ServerName nightlog.observatory.example
    DocumentRoot /srv/nightlog
    <FilesMatch "\\.php$">
        SetHandler "proxy:unix:/run/php/plates.sock|fcgi://localhost"
    </FilesMatch>
</VirtualHost>
<VirtualHost 127.0.0.1:8174>
    ServerName domekeeper.observatory.example
    DocumentRoot /srv/domekeeper
    <Directory /srv/domekeeper>
        LimitRequestBody 2000000
    </Directory>
</VirtualHost>
<Directory /srv>
    Require all granted
</Directory>
"""
POOL = """\
[plates]
user = www-data
group = www-data
listen = /run/php/plates.sock
listen.owner = www-data
pm = ondemand
pm.max_children = 4
request_terminate_timeout = 2s
php_admin_value[post_max_size] = 1M
"""
PAGE = """\
<?php
if (isset($_GET['work'])) { $end = microtime(true) + $_GET['work']; while (microtime(true) < $end) { usleep(50000); } exit('worked'); }
$file = $_FILES['plate'] ?? ['size' => 0, 'error' => 'none'];
echo is_uploaded_file($file['tmp_name'] ?? '') ? filesize($file['tmp_name']) : 0, '|', $file['error'], '|', count($_POST);
"""
NEEDS = """\
format = 1
[application]
name = "{name}"
[uploads]
largest = "24M"
files = 30
[requests]
longest = "40s"
[forms]
fields = 3000
"""


def make_vault() -> Root:
    root = with_libraries("bookworm").copy(STORE / "test-vault")
    root.install("php8.2-fpm", "libapache2-mod-php8.2", "nginx-light", "apache2", "patch")
    for folder in ("platevault/public", "nightlog", "domekeeper"):
        root.write(f"/srv/{folder}/index.php", PAGE)
    root.write("/etc/nginx/sites-available/default", NGINX)
    root.write("/etc/apache2/sites-available/000-default.conf", APACHE)
    root.write("/etc/apache2/ports.conf", "")
    root.write("/etc/php/8.2/fpm/pool.d/plates.conf", POOL)
    root.run("a2enmod", "-q", "proxy_fcgi")
    return root


@contextmanager
def serving(root: Root) -> Iterator[None]:
    """The pools and both web servers."""
    for socket in (root.path / "run/php").glob("*.sock"):
        socket.unlink()
    daemon = start_fpm(root, "8.2")
    try:
        for name in ("php8.2-fpm.sock", "plates.sock"):
            wait_for(root.path / "run/php" / name)
        root.run("nginx")
        root.run("apache2ctl", "start")
        for site in PORTS:
            for _ in range(100):
                try:
                    ask(site)
                    break
                except OSError:
                    time.sleep(0.1)
        yield
    finally:
        for file in ("run/nginx.pid", "run/apache2/apache2.pid"):
            if (root.path / file).exists():
                os.kill(int((root.path / file).read_text()), signal.SIGTERM)
        stop(daemon)
        time.sleep(1)


class Answer(NamedTuple):
    status: int
    text: str


def ask(site: str, query: str = "", body: bytes = b"", kind: str = "") -> Answer:
    """One request; a server that closes the connection in the middle of the body has refused it."""
    link = http.client.HTTPConnection("127.0.0.1", PORTS[site], timeout=60)
    headers = {"Host": f"{site}.observatory.example", **({"Content-Type": kind} if kind else {})}
    try:
        link.request("POST" if body else "GET", f"/index.php?{query}", body or None, headers)
        answer = link.getresponse()
        return Answer(answer.status, answer.read().decode("utf-8", "replace"))
    except (BrokenPipeError, ConnectionResetError):
        return Answer(413, "connection closed")
    finally:
        link.close()


def upload(site: str, size: int) -> Answer:
    mark = b"plate-boundary"
    head = b"--" + mark + b'\r\nContent-Disposition: form-data; name="plate"; filename="plate.tif"\r\n\r\n'
    body = head + b"\0" * size + b"\r\n--" + mark + b"--\r\n"
    return ask(site, body=body, kind=f"multipart/form-data; boundary={mark.decode()}")


def form(site: str, fields: int) -> Answer:
    body = "&".join(f"f{n}=1" for n in range(fields)).encode()
    return ask(site, body=body, kind="application/x-www-form-urlencoded")


def mounted(root: Root, *, on: bool) -> None:
    """The process table, which the servers' own scripts want."""
    command = ["mount", "-t", "proc", "proc"] if on else ["umount", "-l"]
    subprocess.run([*command, str(root.path / "proc")], check=True)
