"""Real Debian root file systems: made with debootstrap, copied, and used through chroot.

Needs root.  The package source is whatever this machine's own apt is set up with.
"""

import fcntl
import os
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

STORE = Path(os.environ.get("FUNDAMENTUM_ROOTS", "/var/tmp/fundamentum-roots"))


class Root:
    """One root file system."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def run(self, *command: str, check: bool = True, stdin: str | None = None, **environment: str) -> str:
        """Run a command inside; its standard output."""
        clean = {
            "PATH": "/usr/sbin:/usr/bin:/sbin:/bin",
            "LC_ALL": "C.UTF-8",
            "DEBIAN_FRONTEND": "noninteractive",
            **environment,
        }
        done = subprocess.run(
            ["chroot", str(self.path), *command], env=clean, input=stdin, capture_output=True, text=True, timeout=900
        )
        if check and done.returncode:
            raise RuntimeError(
                f"{command} in {self.path} ended with {done.returncode}:\n{done.stdout[-2000:]}\n{done.stderr[-2000:]}"
            )
        return done.stdout

    def install(self, *packages: str) -> None:
        """Install packages without what they only recommend."""
        self.run("apt-get", "install", "-y", "-q", "--no-install-recommends", *packages)

    def write(self, path: str, content: str) -> None:
        """Write a file inside."""
        target = self.path / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(content)

    def copy(self, path: Path) -> "Root":
        """A second root with the same content."""
        shutil.rmtree(path, ignore_errors=True)
        subprocess.run(["cp", "-a", "--reflink=auto", str(self.path), str(path)], check=True)
        return Root(path)

    @contextmanager
    def layer(self, path: Path) -> Iterator["Root"]:
        """A second root laid over this one: what is written to it stays apart, and goes with it.  Takes no copying."""
        shutil.rmtree(path, ignore_errors=True)
        for name in ("upper", "work", "root"):
            (path / name).mkdir(parents=True)
        layers = f"lowerdir={self.path},upperdir={path}/upper,workdir={path}/work"
        subprocess.run(["mount", "-t", "overlay", "overlay", "-o", layers, str(path / "root")], check=True)
        try:
            yield Root(path / "root")
        finally:
            subprocess.run(["umount", "-l", str(path / "root")], check=True)
            shutil.rmtree(path, ignore_errors=True)


def base(release: str) -> Root:
    """A minimal root of a Debian release, made once and kept; services are not started in it."""
    path = STORE / release
    STORE.mkdir(parents=True, exist_ok=True)
    with (STORE / f"{release}.lock").open("w") as lock:  # tests may run side by side
        fcntl.flock(lock, fcntl.LOCK_EX)
        return _made(release, path)


def _made(release: str, path: Path) -> Root:
    if not (path / "ready").exists():
        shutil.rmtree(path, ignore_errors=True)
        subprocess.run(["debootstrap", "--variant=minbase", release, str(path)], check=True, stdout=subprocess.DEVNULL)
        root = Root(path)
        root.write("/usr/sbin/policy-rc.d", "#!/bin/sh\nexit 101\n")
        (path / "usr/sbin/policy-rc.d").chmod(0o755)
        root.run("apt-get", "update")
        root.run("apt-get", "clean")
        (path / "ready").touch()
    return Root(path)


def two_releases(older: str, newer: str, path: Path) -> Root:
    """A root of the older release that may also take single packages of the newer one.

    The newer ``php-common`` declares that it breaks every older branch, and the newer branch insists on it; so it is
    rebuilt here without that one line.  All other packages are the releases' own.
    """
    root = base(older).copy(path)
    source = (root.path / "etc/apt/sources.list").read_text()
    root.write("/etc/apt/sources.list.d/newer.list", source.replace(older, newer))
    root.write("/etc/apt/preferences.d/newer", f"Package: *\nPin: release n={newer}\nPin-Priority: 100\n")
    root.run("apt-get", "update")
    script = (
        "cd /root && apt-get download -q php-common/$1 && dpkg-deb -R php-common_*.deb new && "
        "sed -i -e /^Breaks:/d -e '/^Version:/s/$/+both/' new/DEBIAN/control && dpkg-deb -b new both.deb && "
        "apt-get install -y -q --no-install-recommends ./both.deb && apt-mark hold php-common && rm -rf new ./*.deb"
    )
    root.run("sh", "-ec", script, "sh", newer)
    return root
