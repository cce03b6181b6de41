"""The sites of ``first_page.toml`` as configuration: one server with one site for each of them."""

import re
import tomllib
from pathlib import Path
from typing import Literal

from fundamentum.check.judged_runtime import choose
from fundamentum.errors import ChoiceNeeded, FundamentumError
from fundamentum.model.needs import Needs
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers

Server = Literal["nginx", "apache"]
CASES = tomllib.loads(Path(__file__).with_suffix(".toml").read_text("utf-8"))
SOCKETS = {"WWW": "/run/php/php{branch}-fpm.sock", "TWO": "/run/php/two.sock"}
POOL = """\
[two]
user = www-data
group = www-data
listen = /run/php/two.sock
listen.owner = www-data
pm = static
pm.max_children = 1
php_value[memory_limit] = 55M
"""
NGINX = "{}\nserver {{\nlisten 127.0.0.1:{};\nserver_name {};\nroot {};\n{}\n{}\n}}\n"
APACHE = "{}\n<VirtualHost 127.0.0.1:{}>\nServerName {}\nDocumentRoot {}\n{}\n</VirtualHost>\n"
MODULES = ("rewrite", "proxy_http", "setenvif", "proxy", "proxy_fcgi", "dir", "alias")
ABOVE = "Listen 127.0.0.1:{}\nServerName none\nDirectoryIndex index.php\n<Directory /srv>\nRequire all granted\nAllowOverride All\n</Directory>\n"


def name_of(server: Server, case: str) -> str:
    """The site of a case."""
    return f"{server}{list(CASES[server]).index(case)}"


def files_of(server: Server, port: int, branch: str = "8.2") -> dict[str, str]:
    """All sites that one web server has, with the files in their document roots."""
    files = {f"/etc/php/{branch}/fpm/pool.d/two.conf": POOL}
    texts = [] if server == "nginx" else [ABOVE.format(port)]
    for case, about in CASES[server].items():
        name = name_of(server, case)
        root = f"/srv/{name}"

        def filled(text: str, root: str = root, name: str = name) -> str:
            handing = 'SetHandler "proxy:unix:{}|fcgi://localhost"'
            if server == "nginx":
                handing = "include fastcgi.conf; fastcgi_pass unix:{};"
            text = re.sub("WWW|TWO", lambda match: handing.format(SOCKETS[match[0]].format(branch=branch)), text)
            text = text.replace("php8.2-fpm", f"php{branch}-fpm")
            return text.replace("ROOT", root).replace("SITE", name)

        around, text = filled(about.get("around", "")), filled(about["text"])
        if server == "nginx":
            index = "" if "index none" in text or "index start" in text else "index index.php;"
            texts.append(NGINX.format(around, port, name, root, index, text))
        else:
            texts.append(APACHE.format(around, port, name, root, text))
            files[f"{root}/.htaccess"] = filled(about.get("access", ""))
        files |= {f"{root}/{script}": "<?php" for script in ("index.php", "sub/index.php", "other.php")}
    place = "/etc/nginx/sites-enabled/site" if server == "nginx" else "/etc/apache2/sites-enabled/site.conf"
    return {**files, place: "\n".join(texts)}


def said(survey: Survey, name: str) -> str:
    """What is said to answer a site's first request: a pool; ``nothing``; ``unclear``."""
    try:
        target = choose(survey, Needs("nightlog"), name, Offers(survey))
    except ChoiceNeeded:
        return "unclear"
    except FundamentumError:
        return "nothing"
    return target.runtime.pool or "" if target.present else "unclear"
