"""A small made-up root file system of a Debian-family server, quick enough for every test."""

from collections.abc import Iterable
from datetime import date
from pathlib import Path

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.needs import Needs
from fundamentum.model.survey import Survey
from fundamentum.needs.file import parse
from fundamentum.survey.observe import survey

TODAY = date(2026, 11, 26)
"""The day on which everything is judged."""

INDEX = """\
Package: php8.2-fpm
Version: 8.2.9-1
Architecture: amd64
Provides: php-fpm, php8.2-json, phpapi-20220829
Depends: php8.2-common (= 8.2.9-1), libodd1
Section: php

Package: php8.2-common
Version: 8.2.9-1
Architecture: amd64
Provides: php-ctype, php8.2-ctype, php-pdo, php8.2-pdo, php8.2-gettext
Section: php

Package: php8.2-mysql
Version: 8.2.9-1
Architecture: amd64
Provides: php-mysqli, php-mysqlnd, php-pdo-mysql, php8.2-mysqli, php8.2-mysqlnd, php8.2-pdo-mysql
Depends: php8.2-common (= 8.2.9-1), libodd1 (>= 1)
Section: php

Package: php8.2-gd
Version: 8.2.9-1
Architecture: amd64
Provides: php-gd
Depends: php8.2-common (= 8.2.9-1), libpicture3 | libpicture2
Section: php

Package: php8.2-xml
Version: 8.2.9-1
Architecture: amd64
Provides: php-dom, php-xml, php8.2-dom, php8.2-xsl
Depends: php8.2-common (= 8.2.9-1)
Section: php

Package: php8.2-star
Source: php-star
Version: 1.4
Architecture: amd64
Provides: php-star
Depends: phpapi-20220829
Section: php

Package: php8.4-imap
Version: 8.4.1-1
Architecture: amd64
Provides: php-imap
Depends: phpapi-20240924
Section: php

Package: libodd1
Version: 1.2
Architecture: amd64
Section: libs

Package: libpicture2
Version: 2.0
Architecture: amd64
Section: libs

Package: unrelated
Version: 1
Architecture: amd64
Section: misc
"""

MODULE = b"\x7fELF\2\1\1" + bytes(9) + b"\3\0\x3e\0" + b"\0API20220829,NTS\0"
"""As much of an extension file as is looked at where a package put it in place."""

SITE = """\
events {}
http { server { server_name nightlog; location ~ \\.php$ { fastcgi_pass unix:/run/php/php8.2-fpm.sock; } } }
"""
LISTS = "var/lib/apt/lists"
NAME = "mirror_debian_dists_bookworm_main_binary-amd64_Packages"


def write(root: Path, files: dict[str, str | bytes]) -> None:
    """Put files below the root."""
    for name, content in files.items():
        path = root / name.lstrip("/")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content if isinstance(content, bytes) else content.encode())


def small_root(
    root: Path,
    modules: Iterable[str] = ("ctype", "pdo"),
    index: str | bytes | None = INDEX,
    fpm_ini: str = "",
    extra: dict[str, str | bytes] | None = None,
) -> Path:
    """PHP 8.2 with a process manager, the given extension files switched on, and a package index."""
    modules = list(modules)
    files: dict[str, str | bytes] = {
        "etc/os-release": 'ID=debian\nVERSION_ID="12"\nVERSION_CODENAME=bookworm\nPRETTY_NAME="Debian 12"\n',
        "etc/hostname": "mizar\n",
        "var/lib/dpkg/status": "Package: dpkg\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1.21\n\n"
        "Package: php8.2-common\nStatus: install ok installed\nArchitecture: amd64\nVersion: 8.2.9-1\nProvides: php-ctype\n\n"
        "Package: php8.2-fpm\nStatus: install ok installed\nArchitecture: amd64\nVersion: 8.2.9-1\nProvides: phpapi-20220829\n",
        "var/lib/dpkg/info/php8.2-common.list": "".join(f"/usr/lib/php/20220829/{name}.so\n" for name in modules),
        "usr/sbin/php-fpm8.2": b"\x7fELF X-Powered-By: PHP/8.2.9\0",
        "usr/lib/php/8.2/php.ini-production": "",
        "usr/lib/php/20220829/none": "",
        "etc/php/8.2/fpm/php.ini": fpm_ini,
        "etc/php/8.2/fpm/php-fpm.conf": "[global]\npid = /run/php/php8.2-fpm.pid\ninclude=/etc/php/8.2/fpm/pool.d/*.conf\n",
        "etc/php/8.2/fpm/pool.d/www.conf": "[www]\nuser = www-data\nlisten = /run/php/php8.2-fpm.sock\nlisten.owner = www-data\n",
        "etc/php/8.2/fpm/conf.d/00-first.ini": "",
    }
    if not any(name.startswith(("etc/nginx", "etc/apache2", "etc/httpd", "etc/slit")) for name in extra or ()):
        files["etc/nginx/nginx.conf"] = SITE  # what hands requests to it, unless the test says otherwise
    if index is not None:
        files[f"{LISTS}/{NAME}"] = index
    for name in modules:
        files[f"usr/lib/php/20220829/{name}.so"] = MODULE
        files[f"etc/php/8.2/mods-available/{name}.ini"] = f"extension={name}.so\n"
        files[f"etc/php/8.2/fpm/conf.d/20-{name}.ini"] = f"extension={name}.so\n"
    write(root, {**files, **(extra or {})})
    return root


def needs(*extensions: str, settings: str = "", php: str = ">=8.0") -> Needs:
    """An application that needs these extensions."""
    listed = ", ".join(f'"{name}"' for name in extensions)
    return parse(
        f'format = 1\n[application]\nname = "nightlog"\n[php]\nversion = "{php}"\n[extensions]\nrequired = [{listed}]\n{settings}',
        "f",
    )


def look(root: Path) -> Survey:
    """What there is on a server below a directory."""
    return survey(DirectoryHost(root, "mizar"))
