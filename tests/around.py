"""The small root with what surrounds PHP: a web server, users, and packages of commands and databases."""

from pathlib import Path

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds import asked_by
from fundamentum.model.needs import Needs
from fundamentum.model.survey import Survey
from fundamentum.needs.file import parse
from fundamentum.survey.observe import survey
from tests.small_root import INDEX, small_root

MORE = INDEX + "".join(
    f"\nPackage: {name}\nVersion: {version}\nArchitecture: amd64\nSection: misc\n"
    for name, version in (
        ("git", "1:2.39.5-0+deb12u2"),
        ("unzip", "6.0-28"),
        ("imagemagick", "8:6.9.11.60+dfsg-1.6"),
        ("mariadb-server", "1:10.11.6-0+deb12u1"),
        ("postgresql", "15+248"),
        ("cron", "3.0pl1-162"),
    )
)
USERS = {
    "etc/passwd": "root:x:0:0:root:/root:/bin/sh\nwww-data:x:33:33::/var/www:/usr/sbin/nologin\nida:x:1000:1000::/home/ida:/bin/sh\n",
    "etc/group": "root:x:0:\nwww-data:x:33:\nida:x:1000:\nstars:x:50:ida,www-data\n",
}
NGINX = "events {}\nhttp {\n    include /etc/nginx/sites-enabled/*;\n}\n"


def site(server: str = "", location: str = "", front: str = "") -> str:
    """An nginx server that hands nightlog to the pool, with more lines in its parts."""
    return (
        "server {\n    listen 80;\n    server_name nightlog.observatory.example;\n    root /srv/nightlog/public;\n"
        f"{server}    location / {{\n{front}        try_files $uri /index.php;\n    }}\n"
        f"    location ~ \\.php$ {{\n{location}        fastcgi_pass unix:/run/php/php8.2-fpm.sock;\n    }}\n}}\n"
    )


def around_root(
    folder: Path, *, nginx: str = "", http: str = NGINX, extra: dict[str, str | bytes] | None = None, fpm_ini: str = ""
) -> Path:
    """A server that serves one site."""
    files: dict[str, str | bytes] = {
        "etc/nginx/nginx.conf": http,
        "etc/nginx/sites-enabled/nightlog": nginx or site(),
        "srv/nightlog/public/index.php": "<?php\n",
        **USERS,
        **(extra or {}),
    }
    return small_root(folder, ["ctype", "pdo", "mysqlnd", "pdo_mysql"], MORE, fpm_ini, files)


def needs(tables: str, name: str = "nightlog") -> Needs:
    return parse(f'format = 1\n[application]\nname = "{name}"\n{tables}', "f")


def look(root: Path, *applications: Needs) -> Survey:
    return survey(DirectoryHost(root, "mizar"), asked_by(applications))
