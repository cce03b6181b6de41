"""What a new site of nginx looks like.  Source: nginx's documentation of its core and FastCGI modules."""

import re

from fundamentum.webservers.base import HIDDEN, NewSite


def site_lines(site: NewSite) -> list[str]:
    """The file, which hands PHP files to PHP and all that is no file to the front controller."""
    all_addresses = ["80", *(["[::]:80"] if site.both_protocols else [])]
    listen = [f"    listen {address.removeprefix('*:')};" for address in site.addresses or all_addresses]
    names = "|".join(re.escape(path) for path in site.denied)
    denied = [f'    location ~ "{HIDDEN}" {{ return 404; }}']
    denied += [f'    location ~ "^/(?:{names})(?:/|$)" {{ return 404; }}'] if names else []
    last = f"/{site.front}$is_args$args" if site.front else "=404"
    index = site.front.rpartition("/")[2]
    return [
        "server {",
        *listen,
        f"    server_name {site.name};",
        f"    root {site.root};",
        f"    index {' '.join(dict.fromkeys([index or 'index.php', 'index.php', 'index.html']))};",
        *(f"    {name} {value};" for name, value in site.limits),
        "",
        *denied,
        "",
        "    location / {",
        f"        try_files $uri $uri/ {last};",
        "    }",
        "",
        '    location ~ "[^/]\\.php(?:/|$)" {',
        "        fastcgi_split_path_info ^(.+?\\.php)(/.*)$;",
        "        try_files $fastcgi_script_name =404;",
        "        set $path_info $fastcgi_path_info;",
        "        include fastcgi.conf;",
        "        fastcgi_param PATH_INFO $path_info;",
        f"        fastcgi_pass {site.handler};",
        "    }",
        "}",
    ]
