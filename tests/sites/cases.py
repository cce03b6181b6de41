"""Ways to configure a site's PHP: the web server, and the files of each.  The cases themselves are in ``cases.toml``."""

import tomllib
from pathlib import Path

RELEASES = {"bullseye": "7.4", "bookworm": "8.2", "trixie": "8.4"}
FPM = "/etc/php/{branch}/fpm/pool.d/zz-laboratory.conf"
NGINX = """\
server {{
    listen 127.0.0.1:{port};
    server_name a;
    root /srv/a;
    index index.php;
    {server}
    location ~ \\.php$ {{
        include snippets/fastcgi-php.conf;
        {location}
        fastcgi_pass unix:/run/php/php{branch}-fpm.sock;
    }}
}}
server {{
    listen 127.0.0.1:{port};
    server_name b;
    root /srv/b;
    index index.php;
    location ~ \\.php$ {{ include snippets/fastcgi-php.conf; fastcgi_pass unix:/run/php/php{branch}-fpm.sock; }}
}}
"""
APACHE = """\
Listen 127.0.0.1:{port}
ServerName laboratory
DirectoryIndex index.php
{main}
<VirtualHost 127.0.0.1:{port}>
    ServerName a
    DocumentRoot /srv/a
    {server}
</VirtualHost>
<VirtualHost 127.0.0.1:{port}>
    ServerName b
    DocumentRoot /srv/b
</VirtualHost>
<Directory /srv>
    Require all granted
</Directory>
"""
Files = dict[str, str]
SITE = {"nginx": "/etc/nginx/sites-enabled/site", "apache": "/etc/apache2/sites-enabled/site.conf"}
_CASES = tomllib.loads(Path(__file__).with_name("cases.toml").read_text("utf-8"))
CASES: dict[str, tuple[str, str, str, Files]] = {
    name: (case["server"], case.get("inner", ""), case.get("outer", ""), case.get("files", {}))
    for name, case in _CASES.items()
}
"""Name → web server, what stands in the site, in the location (Apache: in the main server), other files."""
UNKNOWN = {name for name, case in _CASES.items() if case.get("unknown")}
"""Those in which the request decides, or what is not followed."""


def files_of(name: str, branch: str, port: int) -> tuple[str, Files]:
    """The web server of a case, and all files of it."""
    server, inner, other, files = CASES[name]
    words = {"branch": branch, "port": port}
    inner = inner.replace("{branch}", branch)
    if server == "nginx":
        text = NGINX.format(server=inner, location=other, **words)
    else:
        text = APACHE.format(server=inner, main=other, **words)
    return server, {SITE["nginx" if server == "nginx" else "apache"]: text, **files}
