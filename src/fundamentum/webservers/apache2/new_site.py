"""What a new site of Apache looks like.  Source: Apache's documentation of core, mod_dir and mod_proxy_fcgi."""

import re

from fundamentum.webservers.base import HIDDEN, NewSite


def site_lines(site: NewSite) -> list[str]:
    """The file, which hands PHP files to PHP and all that is no file to the front controller."""
    names = "|".join(re.escape(path) for path in site.denied)
    index = site.front.rpartition("/")[2] or "index.php"
    handed = [
        '    <FilesMatch "\\.php$">',
        f'        SetHandler "proxy:{site.handler}|fcgi://localhost"',
        "    </FilesMatch>",
    ]
    section = f"<VirtualHost {' '.join(site.addresses) or '*:80'}>"
    # The first one answers for every name that is not another's; without any, that was the main server.
    main = [section, "    # What the main server answers, it goes on answering.", "</VirtualHost>"]
    return [
        *(main if site.only_one else []),
        section,
        f"    ServerName {site.name}",
        f"    DocumentRoot {site.root}",
        *(f"    {name} {value}" for name, value in site.limits),
        f"    <Directory {site.root}>",
        "        Options -Indexes +FollowSymLinks",
        "        AllowOverride All",
        "        Require all granted",
        f"        DirectoryIndex {' '.join(dict.fromkeys([index, 'index.php', 'index.html']))}",
        *([f"        FallbackResource /{site.front}"] if site.front else []),
        *(["        CGIPassAuth On"] if site.handler else []),
        "    </Directory>",
        *(handed if site.handler else []),
        *_refused(HIDDEN),
        *(_refused(f"^/(?:{names})(?:/|$)") if names else []),
        "</VirtualHost>",
    ]


def _refused(pattern: str) -> list[str]:
    return [f'    <LocationMatch "{pattern}">', "        Require all denied", "    </LocationMatch>"]
