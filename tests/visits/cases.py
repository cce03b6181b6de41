"""Ways in which sites answer addresses; what comes of each, as real servers answered, stands in ``cases.toml``."""

import tomllib
from collections.abc import Iterator
from pathlib import Path

from fundamentum.model.surrounding_facts import Visit

PATHS = {"page": "/no-such-page", "config": "/config/", "list": "/."}
CASES = tomllib.loads(Path(__file__).with_name("cases.toml").read_text("utf-8"))
MAIN = {
    "nginx": (
        "/etc/nginx/nginx.conf",
        "user www-data;\npid /run/nginx.pid;\nerror_log /var/log/nginx/error.log;\nevents {{}}\nhttp {{\n{sites}}}\n",
    ),
    "apache": ("/etc/apache2/sites-enabled/all.conf", "Listen 127.0.0.1:{port}\nServerName laboratory\n{sites}"),
}
SITE = {
    "nginx": """\
server {{
    listen 127.0.0.1:{port};
    server_name {name};
    root {root};
    index index.html;
    {site}
    location ~ \\.php$ {{ include fastcgi.conf; fastcgi_pass unix:/run/php/php{branch}-fpm.sock; }}
    {after}
}}
""",
    "apache": """\
<VirtualHost 127.0.0.1:{port}>
    ServerName {name}
    DocumentRoot {root}
    DirectoryIndex index.html
    <Directory {root}>
        Require all granted
    </Directory>
    <FilesMatch "\\.php$">
        SetHandler "proxy:unix:/run/php/php{branch}-fpm.sock|fcgi://localhost"
    </FilesMatch>
    {site}
</VirtualHost>
""",
}


def files(server: str, branch: str, port: int) -> Iterator[tuple[str, str]]:
    """All files of all cases of a web server: path and content."""
    sites = []
    for number, case in enumerate(CASES[server].values()):
        root = f"/srv/visit{number}"
        words = {"name": f"visit{number}", "root": root, "branch": branch, "port": port}
        inner = {
            name: case.get(name, "").replace("{root}", root).replace("{branch}", branch) for name in ("site", "after")
        }
        sites.append(SITE[server].format(**words, **inner))
        yield f"{root}/front.php", "<?php echo 'FRONT';"
        for name, text in (("x.txt", "TEXT"), ("x", "TEXT"), ("x.php", "<?php echo 'RAN';")):
            yield f"{root}/config/{name}", text
        for name, folder in (("access", ""), ("denied", "config/")):
            if name in case:
                yield f"{root}/{folder}.htaccess", case[name]
    path, text = MAIN[server]
    yield path, text.format(sites="".join(sites), port=port)


def told(visit: Visit) -> str:
    """A visit as the cases have it."""
    return {"script": visit.script, "handed-out": "handed-out", "unclear": "unclear"}.get(visit.outcome, "")
