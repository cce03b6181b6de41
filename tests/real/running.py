"""Ask a running PHP what it really has."""

import json
import os
import signal
import subprocess
import time
import urllib.request
from contextlib import suppress
from pathlib import Path
from typing import Any

from debian_root import Root

from fundamentum.model.surrounding_facts import Asked
from fundamentum.survey import recorder

REPORT = (
    "<?php echo 'REPORT', json_encode(['ini' => ini_get_all(null, false), 'extensions' => array_merge(get_loaded_extensions(), "
    "array_diff(get_loaded_extensions(true), get_loaded_extensions()))], JSON_PARTIAL_OUTPUT_ON_ERROR);"
)


def report(root: Root, branch: str, sapi: str, pool: str | None = None) -> dict[str, Any]:
    """Settings and extensions as that runtime itself reports them."""
    root.write("/tmp/report.php", REPORT)
    match sapi:
        case "cli":
            text = root.run(f"php{branch}", "/tmp/report.php")
        case "cgi":
            text = root.run(f"php-cgi{branch}", "-q", "/tmp/report.php", REDIRECT_STATUS="1")
        case "fpm":
            text = fpm(root, branch, pool or "www")
        case _:
            text = apache(root, branch)
    found: dict[str, Any] = json.loads(text[text.index("REPORT{") + 6 :])
    return found


def stop(daemon: "subprocess.Popen[bytes]") -> None:
    """End a daemon that a test started."""
    daemon.send_signal(signal.SIGTERM)
    try:
        daemon.wait(20)
    except subprocess.TimeoutExpired:  # one that is run in the foreground may miss it
        daemon.kill()
        daemon.wait(20)


def stop_web_servers(root: Root) -> None:
    """End the nginx and the Apache that were started inside a root, and wait until they have gone."""
    files = (root.path / "run/nginx.pid", root.path / "run/apache2/apache2.pid")
    processes = [int(file.read_text()) for file in files if file.exists()]
    for process in processes:
        with suppress(ProcessLookupError):
            os.kill(process, signal.SIGTERM)
    for process in processes:
        for _ in range(300):
            if not _runs(process):
                break
            time.sleep(0.1)


def _runs(process: int) -> bool:
    """Whether a process is there, and holds its ports."""
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def end_all(root: Root) -> None:
    """End whatever runs in the root."""
    for sign in (signal.SIGTERM, signal.SIGKILL):
        for process in Path("/proc").iterdir():
            with suppress(OSError, ValueError):
                if process.name.isdigit() and (process / "root").readlink() == root.path:
                    os.kill(int(process.name), sign)
        time.sleep(1.5)


def wait_for(path: Path) -> None:
    """Wait until a daemon has made its socket or pid file."""
    for _ in range(100):
        if path.exists():
            return
        time.sleep(0.1)
    raise TimeoutError(path)


def start_fpm(root: Root, branch: str, **environment: str) -> "subprocess.Popen[bytes]":
    """The process manager with the root's own configuration."""
    (root.path / "run/php").mkdir(parents=True, exist_ok=True)
    return subprocess.Popen(
        ["chroot", str(root.path), f"php-fpm{branch}", "-F"],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", **environment},
    )


def ask_pool(root: Root, socket: str) -> str:
    """The answer of one pool, over FastCGI.  The pool may be shut into its own directories; a file under /tmp is in reach."""
    wait_for(root.path / socket.lstrip("/"))
    return root.run("cgi-fcgi", "-bind", "-connect", socket, REQUEST_METHOD="GET", SCRIPT_FILENAME="/tmp/report.php")


def fpm(root: Root, branch: str, pool: str) -> str:
    socket = f"/run/php/php{branch}-fpm.sock" if pool == "www" else f"/run/php/{pool}.sock"
    daemon = start_fpm(root, branch)
    try:
        return ask_pool(root, socket)
    finally:
        stop(daemon)


def apache(root: Root, branch: str) -> str:
    """Apache with the root's own module, on loopback."""
    loads = "".join(
        f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n"
        for name in ("mpm_prefork", "authz_core", "mime")
    )
    module = "php7" if branch.startswith("7") else "php"
    root.write(
        "/tmp/apache.conf",
        (
            f"ServerRoot /tmp\nServerName localhost\nListen 127.0.0.1:8098\nPidFile /tmp/apache.pid\nErrorLog /tmp/apache.log\n{loads}"
            f"LoadModule {module}_module /usr/lib/apache2/modules/libphp{branch}.so\nPHPINIDir /etc/php/{branch}/apache2\nUser www-data\nGroup www-data\n"
            "TypesConfig /dev/null\nDocumentRoot /tmp\n<Directory /tmp>\nRequire all granted\n</Directory>\nAddHandler application/x-httpd-php .php\n"
        ),
    )
    daemon = subprocess.Popen(["chroot", str(root.path), "/usr/sbin/apache2", "-X", "-f", "/tmp/apache.conf"])
    try:
        for _ in range(100):
            try:
                with urllib.request.urlopen("http://127.0.0.1:8098/report.php", timeout=20) as answer:
                    return str(answer.read().decode())
            except OSError:
                time.sleep(0.1)
        raise TimeoutError("apache did not answer")
    finally:
        stop(daemon)


def recorded(root: Root, *shell: str, asked: Asked | None = None) -> bytes:
    root.write("/root/recorder.sh", recorder.script(asked))
    command = ["chroot", str(root.path), *shell, "/root/recorder.sh", "-"]
    done = subprocess.run(command, capture_output=True, check=True, timeout=120)
    assert not done.stderr
    return done.stdout
