"""What systemd keeps PHP's service and the web server from, whatever the rights of their users."""

from pathlib import Path

import pytest

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds import asked_by
from fundamentum.model.findings import Finding
from fundamentum.model.needs import Needs
from fundamentum.needs.file import parse
from fundamentum.survey.observe import survey
from tests.small_root import small_root

PHP, WEB = "usr/lib/systemd/system/php8.2-fpm.service", "usr/lib/systemd/system/nginx.service"
DROP_IN = "etc/systemd/system/php8.2-fpm.service.d/x.conf"
POOL = "etc/php/8.2/fpm/pool.d/www.conf"
START = "[Service]\nExecStart=/usr/sbin/php-fpm8.2 --nodaemonize --fpm-config /etc/php/8.2/fpm/php-fpm.conf\n"


def on_server(root: Path, at: str, php: str, web: str = "", socket: str = "/run/php/php8.2-fpm.sock") -> Path:
    """A site in a directory, with lines for the units of its two services."""
    handed = f"server {{ server_name nightlog; root {at}; index index.php; location ~ \\.php$ {{ include fastcgi_params; fastcgi_pass unix:{socket}; }} }}"
    small_root(
        root,
        extra={
            "usr/lib/systemd/systemd": "",
            "etc/passwd": "root:x:0:0::/root:/bin/sh\nwww-data:x:33:33::/var/www:/bin/sh\n",
            "etc/group": "root:x:0:\nwww-data:x:33:\n",
            PHP: START + php,
            WEB: f"[Service]\nExecStart=/usr/sbin/nginx\n{web}",
            POOL: f"[www]\nuser = www-data\nlisten = {socket}\nlisten.owner = www-data\n",
            "etc/nginx/fastcgi_params": "fastcgi_param REQUEST_METHOD $request_method;\nfastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;\n",
            "etc/nginx/nginx.conf": f"user www-data;\nevents {{}}\nhttp {{ {handed} }}\n",
            f"{at.lstrip('/')}/index.php": "<?php",
            f"{at.lstrip('/')}/var/x": "",
        },
    )
    root.chmod(0o755)
    for path in root.rglob("*"):
        path.chmod(0o777 if path.is_dir() else 0o644)
    return root


def wanted() -> Needs:
    return parse(
        'format = 1\n[application]\nname = "nightlog"\n[directories.required]\nvar = "writable"\n[uploads]\nlargest = "1K"\n',
        "nightlog.needs.toml",
    )


def found(root: Path, key: str) -> Finding:
    seen = survey(DirectoryHost(root, "mizar"), asked_by([wanted()]))
    return next(finding for finding in check(wanted(), seen).findings if finding.need == key)


CASES = [  # where it stands, lines of PHP's unit, verdict on the directory, what is said of it
    ("/srv/nightlog", "", "met", ""),
    ("/srv/nightlog", "ProtectSystem=full\nProtectHome=yes\nPrivateTmp=yes\n", "met", ""),
    ("/srv/nightlog", "ProtectSystem=strict\n", "unmet", f"read-only for php8.2-fpm (/{PHP}:3)"),
    ("/srv/nightlog", "ProtectSystem=strict\nReadWritePaths=-/srv/nightlog/var /srv/other\n", "met", ""),
    ("/srv/nightlog", "ProtectSystem=strict\nReadWritePaths=/srv/nightlog/var\nReadWritePaths=\n", "unmet", "read-only"),
    ("/srv/nightlog", "ProtectSystem=strict\nReadWritePaths=/srv\nReadOnlyPaths=/srv/nightlog/\n", "unmet", f"{PHP}:5"),
    ("/srv/nightlog", "DynamicUser=yes\n", "unmet", "read-only for php8.2-fpm"),
    ("/srv/nightlog", "ReadOnlyPaths=/srv/night\n", "met", ""),
    ("/srv/nightlog", "InaccessiblePaths=/srv/nightlog/var/log\n", "met", ""),
    ("/srv/nightlog", "ReadWritePaths=%h\n", "unknown", "is not followed"),
    ("/srv/nightlog", "BindPaths=/mnt/plates:/srv/nightlog/var\n", "unknown", "is not followed"),
    ("/home/ida/nightlog", "ProtectSystem=strict\n", "met", ""),
    ("/home/ida/nightlog", "ProtectHome=read-only\n", "unmet", "add ReadWritePaths=/home/ida/nightlog/var under [Service]"),
    ("/home/ida/nightlog", "ProtectHome=yes\nReadWritePaths=/home/ida\n", "unmet", "does not see it"),
    ("/usr/share/nightlog", "ProtectSystem=yes\n", "unmet", "read-only for php8.2-fpm"),
    ("/var/lib/nightlog", "ProtectSystem=strict\nStateDirectory=nightlog\n", "met", ""),
    ("/tmp/nightlog", "PrivateTmp=true\n", "unmet", "does not see it"),
    ("/tmp/nightlog", "PrivateTmp=false\n", "met", ""),
]  # fmt: skip


@pytest.mark.parametrize(("at", "lines", "verdict", "words"), CASES)
def test_what_may_be_written(tmp_path: Path, at: str, lines: str, verdict: str, words: str) -> None:
    finding = found(on_server(tmp_path, at, lines), "directory:var")
    assert (finding.verdict, words in f"{finding.found} {finding.remedy}") == (verdict, True), finding


SOCKET = "/tmp/nightlog.sock"
WAYS = [  # where it stands, lines of PHP's unit and of the web server's, the socket; the verdict on PHP itself
    ("/srv/nightlog", "PrivateTmp=yes\n", "PrivateTmp=yes\n", "/run/php/nightlog.sock", "met", ""),
    ("/srv/nightlog", "", "PrivateTmp=yes\n", SOCKET, "unmet", f"nginx does not see the socket {SOCKET} of php8.2-fpm"),
    ("/srv/nightlog", "PrivateTmp=yes\n", "", SOCKET, "unmet", f"php8.2-fpm does not see the socket {SOCKET} of nginx"),
    ("/srv/nightlog", "", "", SOCKET, "met", ""),
    ("/home/ida/nightlog", "", "ProtectHome=read-only\n", "/run/php/x.sock", "met", ""),
    ("/home/ida/nightlog", "", "ProtectHome=true\n", "/run/php/x.sock", "unmet", "nginx does not see /home/ida/nightlog"),
    ("/home/ida/nightlog", "ProtectHome=tmpfs\n", "", "/run/php/x.sock", "unmet", "php8.2-fpm does not see /home/ida"),
    ("/srv/nightlog", "RootDirectory=/srv/jail\n", "", "/run/php/x.sock", "unknown", "is not followed"),
]  # fmt: skip


@pytest.mark.parametrize(("at", "php", "web", "socket", "verdict", "words"), WAYS)
def test_what_is_seen(tmp_path: Path, at: str, php: str, web: str, socket: str, verdict: str, words: str) -> None:
    finding = found(on_server(tmp_path, at, php, web, socket), "php")
    assert (finding.verdict, words in f"{finding.found} {finding.remedy}") == (verdict, True), finding


@pytest.mark.parametrize(
    ("lines", "verdict"),
    [
        ("ProtectSystem=strict\n", "unmet"),
        ("ProtectSystem=strict\nPrivateTmp=yes\n", "met"),
        ("ProtectSystem=full\n", "met"),
    ],
)
def test_where_uploads_land(tmp_path: Path, lines: str, verdict: str) -> None:
    assert found(on_server(tmp_path, "/srv/nightlog", lines), "uploads:largest").verdict == verdict


def test_without_systemd_its_units_keep_nobody_from_anything(tmp_path: Path) -> None:
    on_server(tmp_path, "/srv/nightlog", "ProtectSystem=strict\n")
    (tmp_path / "usr/lib/systemd/systemd").unlink()
    assert found(tmp_path, "directory:var").verdict == "met"
