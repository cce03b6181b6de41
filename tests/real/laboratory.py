"""A laboratory of sites: one root for each release, and for each case a layer over it with its own configuration.

The real web server and the real PHP are started in it, the site is asked over HTTP, and what is said about it is held
against the answer.
"""

import fcntl
import json
import os
import signal
import subprocess
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from types import MappingProxyType
from typing import Any

from debian_root import STORE, Root, with_php

from tests.sites.cases import FPM, RELEASES

from .running import stop, stop_web_servers

REPORT = (
    "<?php header('Content-Type: text/plain'); echo 'REPORT', json_encode(['ini' => ini_get_all(null, false), "
    "'functions' => array_values(array_filter(['exec', 'mail', 'passthru'], 'function_exists')), "
    "'writable' => array_values(array_filter(['/srv/a/data', '/srv/a/closed'], function ($d) "
    "{ return @file_put_contents(\"$d/x\", 'x') !== false; })), "
    "'extensions' => get_loaded_extensions()], JSON_PARTIAL_OUTPUT_ON_ERROR);"
)


def made(release: str) -> Root:
    """The root of a release with every way of running PHP, made once."""
    branch = RELEASES[release]
    path = STORE / f"laboratory-{release}"
    STORE.mkdir(parents=True, exist_ok=True)
    with (STORE / f"laboratory-{release}.lock").open("w") as lock:  # tests may run side by side
        fcntl.flock(lock, fcntl.LOCK_EX)
        return _made(release, branch, path)


def _made(release: str, branch: str, path: Path) -> Root:
    if not (path / "laboratory-with-fcgid").exists():
        root = with_php(release).copy(path)
        module = f"libapache2-mod-php{branch}"
        root.install("nginx-light", "apache2", "patch", "libapache2-mod-fcgid", module)
        root.run("a2dismod", "-q", "fcgid")
        for name in ("nginx/sites-enabled/default", "apache2/sites-enabled/000-default.conf"):
            (root.path / "etc" / name).unlink()
        root.write("/etc/apache2/ports.conf", "")
        for site in ("a", "a/sub", "b"):
            root.write(f"/srv/{site}/index.php", REPORT)
        root.run("install", "-d", "-o", "www-data", "/srv/a/data")
        root.run("install", "-d", "/srv/a/closed")
        root.write(FPM.format(branch=branch), "[www]\npm = static\npm.max_children = 1\n")
        root.write("/laboratory-with-fcgid", "")
    return Root(path)


@contextmanager
def running(
    release: str,
    files: Mapping[str, str],
    server: str,
    port: int,
    options: Sequence[str] = (),
    environment: Mapping[str, str] = MappingProxyType({}),
    prepared: Callable[[Root], None] | None = None,
) -> Iterator[Root]:
    """The root with these files, PHP's process manager and the web server running in it, started so."""
    branch = RELEASES[release]
    with made(release).layer(STORE / f"case-{release}-{port}") as root:
        for name, content in files.items():
            root.write(name.format(branch=branch), content)
        if server == "apache-fpm":
            root.run("a2dismod", "-q", "-f", f"php{branch}")
            root.run("a2enmod", "-q", "proxy_fcgi", "setenvif")
        if prepared:
            prepared(root)
        subprocess.run(["mount", "-t", "proc", "proc", str(root.path / "proc")], check=True)
        manager = None
        try:
            if server != "apache":
                manager = started(root, branch, options, environment)
            root.run("nginx") if server == "nginx" else root.run("apache2ctl", "start")
            answered(port)
            yield root
        finally:
            stop_web_servers(root)
            if manager:
                stop(manager)
                stop_restarted(root, branch)
            subprocess.run(["umount", "-l", str(root.path / "proc")], check=True)


def started(
    root: Root, branch: str, options: Sequence[str] = (), variables: Mapping[str, str] = MappingProxyType({})
) -> "subprocess.Popen[bytes]":
    """PHP's process manager, waiting at its socket."""
    (root.path / "run/php").mkdir(parents=True, exist_ok=True)
    environment = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", **variables}
    command = ["chroot", str(root.path), f"php-fpm{branch}", "-F", *options]
    manager = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=environment)
    threading.Thread(target=manager.wait, daemon=True).start()  # so that a restart does not wait for it
    for _ in range(200):
        if (root.path / f"run/php/php{branch}-fpm.sock").exists():
            return manager
        time.sleep(0.05)
    manager.send_signal(signal.SIGKILL)
    raise TimeoutError(f"php-fpm{branch}")


def stop_restarted(root: Root, branch: str) -> None:
    """End the process manager that a script started in the place of the test's own."""
    file = root.path / f"run/php/php{branch}-fpm.pid"
    for _ in range(100):
        if not file.exists():
            return
        with suppress(ProcessLookupError):
            os.kill(int(file.read_text()), signal.SIGTERM)
        time.sleep(0.05)


def answered(port: int) -> None:
    """Wait until the web server answers anything."""
    for _ in range(200):
        try:
            asked(port)
        except OSError:
            time.sleep(0.05)
        else:
            return
    raise TimeoutError(port)


def asked(port: int, site: str = "a", path: str = "/index.php") -> dict[str, Any]:
    """What the site itself says it has; ``failing`` where it says nothing."""
    request = urllib.request.Request(f"http://127.0.0.1:{port}{path}", headers={"Host": site})
    try:
        with urllib.request.urlopen(request, timeout=20) as answer:
            text = answer.read().decode("utf-8", "replace")
    except urllib.error.HTTPError as error:
        return {"failing": str(error.code)}
    if not text.startswith("REPORT"):
        return {"failing": "its source is handed out" if "<?php" in text else text[:80]}
    found: dict[str, Any] = json.loads(text[6:])
    return found
