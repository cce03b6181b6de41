"""Make the surveys of the demo: set up the observatory's servers as real Debian roots, and survey them.

    sudo python tools/make_demo.py [NAME...]

Only package names and versions, file names and settings of Debian's own packages get into the files.
"""

import re
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from debian_root import STORE, Root, base, two_releases
from msgspec.structs import replace

from fundamentum.catalog.suppliers import packages_of
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds import asked_by
from fundamentum.model.packages import Offer
from fundamentum.model.survey import Survey
from fundamentum.needs.file import load
from fundamentum.plan.new_site import with_web
from fundamentum.platforms.debian import control
from fundamentum.survey.observe import survey
from fundamentum.survey.survey_file import written

sys.path.insert(0, str(Path(__file__).parents[1]))
from tests.real.running import start_fpm, stop, stop_web_servers, wait_for

DATA = Path(__file__).parents[1] / "src/fundamentum/demo/data"
ASKED = asked_by(load(path) for path in sorted(DATA.glob("*.needs.toml")))
KEPT = re.compile(
    r"php8\.[24]-(fpm|cli|cgi|common|opcache|readline|xml|mysql|pgsql|sqlite3|gd|imagick|imap|intl|mbstring|zip|curl|bcmath"
    r"|soap|apcu)$|libapache2-mod-php8\.[24]$|php-common$"
)


APACHE = """\
<VirtualHost *:80>
    ServerName nightlog.observatory.example
    DocumentRoot /srv/nightlog
    <Directory /srv/nightlog>
        Require all granted
    </Directory>
</VirtualHost>
"""
PLATES = """\
server {
    listen 127.0.0.1:80;
    server_name platevault.observatory.example;
    root /srv/platevault/public;
    client_max_body_size 32m;  # plates are larger
    location / { try_files $uri /index.php?$args; }
    location ~ \\.php$ {
        include snippets/fastcgi-php.conf;
        fastcgi_pass unix:/run/php/php8.2-fpm.sock;
    }
}
"""
NGINX = """\
server {
    listen 127.0.0.1:80;
    server_name nightlog.observatory.example;
    root /srv/nightlog;
    location ~ \\.php$ {
        include snippets/fastcgi-php.conf;
        fastcgi_pass unix:/run/php/php8.2-fpm.sock;
    }
}
"""


def altair() -> Survey:
    """The server that is ready."""
    root = _root("altair")
    root.install("php8.2-fpm", "php8.2-xml", "php8.2-mysql", "php8.2-intl", "php8.2-gd", "php8.2-mbstring", "apache2")
    root.run("a2enmod", "-q", "proxy_fcgi")
    root.run("a2enconf", "-q", "php8.2-fpm")
    root.write("/etc/apache2/sites-available/000-default.conf", APACHE)
    root.write(
        "/etc/php/8.2/fpm/conf.d/90-nightlog.ini",
        "memory_limit = 256M\nmax_input_vars = 6000\nupload_max_filesize = 32M\npost_max_size = 40M\n",
    )
    root.write("/etc/apache2/ports.conf", "Listen 127.0.0.1:80\n")
    with running(root, "apache2ctl", "start"):
        return survey(DirectoryHost(root.path, "altair"), ASKED)


def vega() -> Survey:
    """The server where somebody has begun."""
    root = _root("vega")
    root.install("php8.2-fpm", "php8.2-cli", "php8.2-xml", "php8.2-gd", "nginx-light")
    root.write("/etc/nginx/sites-available/default", NGINX)
    root.run("phpdismod", "-v", "8.2", "-s", "fpm", "dom")
    root.write(
        "/etc/php/8.2/fpm/conf.d/95-uploads.ini",
        "; larger uploads, please\nupload_max_filesize = 200\nmax_input_vars = 2000\n",
    )
    with running(root, "nginx"):
        root.install("php8.2-mysql")  # while it runs, and nobody restarts it
        return survey(DirectoryHost(root.path, "vega"), ASKED)


def deneb() -> Survey:
    """The server that can have two branches, with the scanned plates on one of them."""
    root = two_releases("bookworm", "trixie", STORE / "demo-deneb")
    root.write("/etc/hostname", "deneb\n")
    (root.path / "etc/apt/preferences.d/newer").unlink()
    root.install("nginx-light", "php8.2-fpm", "php8.2-gd", "php8.2-mysql")
    root.write("/etc/nginx/sites-available/default", PLATES)
    root.write("/srv/platevault/public/index.php", "<?php\n")
    root.write("/srv/platevault/public/install/index.php", "<?php\n")
    root.write("/srv/platevault/bin/collect.php", "<?php\n")
    root.write("/srv/platevault/var/plates/.keep", "")
    with running(root, "nginx"):
        return survey(DirectoryHost(root.path, "deneb"), ASKED)


def mizar() -> Survey:
    """The server on which there is nothing yet."""
    nightlog = with_web(load(DATA / "nightlog.needs.toml"))
    return survey(DirectoryHost(_root("mizar").path, "mizar"), asked_by([nightlog], directory="/srv/nightlog"))


@contextmanager
def running(root: Root, *web_server: str) -> Iterator[None]:
    """PHP's process manager and a web server, as on a server that is in use."""
    subprocess.run(["mount", "-t", "proc", "proc", str(root.path / "proc")], check=True)
    daemon = start_fpm(root, "8.2")
    try:
        wait_for(root.path / "run/php/php8.2-fpm.sock")
        root.run(*web_server)
        time.sleep(1)
        yield
    finally:
        stop_web_servers(root)
        stop(daemon)
        subprocess.run(["umount", "-l", str(root.path / "proc")], check=True)


def _root(name: str) -> Root:
    root = base("bookworm").copy(STORE / f"demo-{name}")
    root.write("/etc/hostname", f"{name}\n")
    return root


def slim(surveyed: Survey) -> Survey:
    """Only the offers that the demo's applications could ask for, with what those depend on."""
    by_name: dict[str, list[Offer]] = {}
    for offer in surveyed.offers or ():
        by_name.setdefault(offer.name, []).append(offer)
    kept: set[str] = set()
    asked = packages_of(surveyed.asked.commands) | set(surveyed.asked.packages) if surveyed.asked else set()
    todo = [name for name in by_name if KEPT.match(name) or name in {*asked, "cron"}]
    while todo:
        name = todo.pop()
        if name in kept or name not in by_name:
            continue
        kept.add(name)
        todo += [n for offer in by_name[name] for n in control.names_in(f"{offer.depends}, {offer.pre_depends}")]
    return replace(surveyed, offers=tuple(o for o in surveyed.offers or () if o.name in kept))


if __name__ == "__main__":
    makers = {"altair": altair, "vega": vega, "deneb": deneb, "mizar": mizar}
    for name, make in makers.items():
        if len(sys.argv) > 1 and name not in sys.argv[1:]:
            continue
        (DATA / f"{name}.survey.json").write_bytes(written(slim(make())))
        print(f"{name}.survey.json")
