"""Real Debian root file systems: made with debootstrap, copied, and used through chroot.

Needs root.  The package source is whatever this machine's own apt is set up with.
"""

import os
import shutil
import subprocess
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


def base(release: str) -> Root:
    """A minimal root of a Debian release, made once and kept; services are not started in it."""
    path = STORE / release
    if not (path / "ready").exists():
        shutil.rmtree(path, ignore_errors=True)
        STORE.mkdir(parents=True, exist_ok=True)
        subprocess.run(["debootstrap", "--variant=minbase", release, str(path)], check=True, stdout=subprocess.DEVNULL)
        root = Root(path)
        root.write("/usr/sbin/policy-rc.d", "#!/bin/sh\nexit 101\n")
        (path / "usr/sbin/policy-rc.d").chmod(0o755)
        root.run("apt-get", "update")
        root.run("apt-get", "clean")
        (path / "ready").touch()
    return Root(path)
