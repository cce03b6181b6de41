"""A server with directories of all kinds, and an application that asks for everything beside PHP."""

import json
import subprocess
from pathlib import Path

from debian_root import Root

from .carried_out import fundamentum

NGINX = """\
server {
    listen 127.0.0.1:8175;
    server_name platevault.observatory.example;
    root /srv/platevault/public;
    location ~ \\.php$ {
        include snippets/fastcgi-php.conf;
        fastcgi_read_timeout 20s;
        fastcgi_pass unix:/run/php/php8.2-fpm.sock;
    }
}
"""
NEEDS = """\
format = 1
[application]
name = "platevault"
[extensions]
required = ["mbstring", "pdo_mysql | pdo_pgsql"]
[database]
required = ["mariadb >= 10.6 | postgresql >= 13"]
[commands]
required = ["unzip", "git >= 2.30", "convert | gm", "grep >= 3.0"]
[directories.required]
"/srv/platevault/new" = "writable"
"/srv/platevault/owned" = "writable"
"/srv/platevault/lent" = "writable"
"/srv/platevault/listed" = "writable"
"/srv/closed/deep/plates" = "writable"
"/srv/platevault/config" = "read-only"
"/srv/platevault/hidden" = "read-only"
[host.required]
time_zone = "set"
architecture = "amd64 | arm64"
[uploads]
largest = "100M"
[requests]
longest = "3m"
[tasks.required]
"bin/fetch.php" = "every 15m"
"""


def surround(root: Root) -> None:
    """A site behind nginx, and directories that belong to everybody but the user who needs them."""
    root.write("/etc/nginx/sites-available/default", NGINX)
    root.write("/srv/platevault/public/index.php", "<?php")
    root.write("/srv/platevault/bin/fetch.php", "<?php")
    root.run("useradd", "-m", "ida")
    setup = """
    mkdir -p /srv/platevault/owned /srv/platevault/lent /srv/platevault/listed /srv/platevault/config /srv/platevault/hidden
    mkdir -p /srv/platevault/bin /srv/closed/deep/plates
    chown ida:ida /srv/platevault/lent && chmod 700 /srv/platevault/lent
    setfacl -m u:ida:rwx /srv/platevault/listed
    chown www-data:www-data /srv/platevault/config && chmod 777 /srv/platevault/config
    chmod 700 /srv/platevault/hidden /srv/closed /srv/closed/deep
    """
    root.run("sh", "-ec", setup)


def as_visitor(root: Root, *command: str) -> bool:
    """Whether a command succeeds as the user as whom the pool works."""
    words = ["setpriv", "--reuid", "www-data", "--regid", "www-data", "--clear-groups", *command]
    return subprocess.run(["chroot", str(root.path), *words], capture_output=True, check=False).returncode == 0


def carried_out(server: Root, needs: Path) -> None:
    code, out = fundamentum("check", str(needs), "--server", str(server.path), "--format", "json")
    findings = {load["need"]: load for load in json.loads(out)["applications"][0]["findings"]}
    assert code == 0, [
        f"{need}: {finding['found']}" for need, finding in findings.items() if finding["verdict"] != "met"
    ]
    for name in ("new", "owned", "lent", "listed"):
        assert as_visitor(server, "touch", f"/srv/platevault/{name}/file"), name
    assert as_visitor(server, "touch", "/srv/closed/deep/plates/file")
    assert not as_visitor(server, "ls", "/srv/closed"), "passed through, but not listed"
    for name in ("config", "hidden"):
        assert as_visitor(server, "ls", f"/srv/platevault/{name}"), name
        assert not as_visitor(server, "touch", f"/srv/platevault/{name}/file"), name
    open_to_all = server.run("find", "/srv/platevault", "/srv/closed", "-perm", "-o+w", "!", "-type", "l")
    assert not open_to_all.strip()
    assert server.run("cat", "/etc/cron.d/platevault").endswith(
        "*/15 * * * * www-data /usr/bin/php8.2 /srv/platevault/bin/fetch.php\n"
    )
    assert server.run("git", "--version").startswith("git version 2.39")
