"""Real Debian root file systems: made with debootstrap, copied, and used through chroot.

Needs root.  The package source is whatever this machine's own apt is set up with.
"""

import fcntl
import os
import re
import shutil
import subprocess
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

from small_index import cut_down

STORE = Path(os.environ.get("FUNDAMENTUM_ROOTS", "/var/tmp/fundamentum-roots"))

BRANCHES = {"bullseye": "7.4", "bookworm": "8.2", "trixie": "8.4"}
"""Releases that the tests ask, and the branch of PHP that each has."""

LINKED = ("curl", "gd", "gmp", "imagick", "intl", "ldap", "mbstring", "mysql", "pgsql", "soap", "sqlite3", "xml", "zip")
LIBRARY = re.compile(r"(?!lib(?:apache2-mod|nginx-mod|php|systemd|cap2-bin))(?:lib|fonts|fontconfig|perl)")


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


def spare(name: str) -> Path:
    """Where a layer of this process may be put, beside the roots; ``name`` tells its layers apart."""
    return STORE / f"layer-{os.getpid()}-{name}"


def base(release: str) -> Root:
    """A minimal root of a Debian release, made once and kept; services are not started in it."""
    path = STORE / release
    with _locked(path):
        return _made(release, path)


def with_libraries(release: str) -> Root:
    """The same with the libraries that PHP and the web servers are linked against, but neither of them; made once and kept.

    A third of the time that installing a PHP package takes goes to unpacking them.  Its package indexes are cut down to
    what the tests install, which every call of apt reads.
    """
    path = STORE / f"{release}-libraries"
    with _locked(path):
        if not (path / "with-libraries").exists():
            root = base(release).copy(path)
            wanted = [f"php-{name}" for name in ("fpm", "cgi", *LINKED)]
            said = root.run("apt-get", "-s", "install", "--no-install-recommends", *wanted, "nginx-light", "apache2")
            names = [line.split()[1] for line in said.splitlines() if line.startswith("Inst ")]
            root.install(*(name for name in names if LIBRARY.match(name)))
            root.run("apt-get", "clean")
            cut_down(path)
            (path / "with-libraries").touch()
        return Root(path)


def made_once(name: str, start: Callable[[], Root], make: Callable[[Root], None]) -> Root:
    """A root that is made of a copy of another one, once, and kept; who changes it takes a layer over it."""
    path = STORE / name
    with _locked(path):
        if not Path(f"{path}.made").exists():
            make(start().copy(path))
            Path(f"{path}.made").touch()
        return Root(path)


def with_php(release: str) -> Root:
    """The same with the ways of running PHP for which no other server has to be there; made once and kept.

    Setting up one package of PHP takes longer than unpacking ten.
    """
    packages = [f"php{BRANCHES[release]}-{suffix}" for suffix in ("fpm", "cli", "cgi", "mbstring", "xml")]
    return made_once(f"{release}-php", lambda: with_libraries(release), lambda root: root.install(*packages))


def with_pool() -> Root:
    """Bookworm's PHP with its process manager, and nginx, which hands nothing to it yet."""
    return made_once(
        "bookworm-pool",
        lambda: with_libraries("bookworm"),
        lambda root: root.install("php8.2-fpm", "nginx-light"),
    )


@contextmanager
def _locked(path: Path) -> Iterator[None]:
    """Tests may run side by side."""
    STORE.mkdir(parents=True, exist_ok=True)
    with Path(f"{path}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


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


if __name__ == "__main__":  # what takes longest and waits for downloads most, while something else is done
    with ThreadPoolExecutor() as side_by_side:
        for made in side_by_side.map(with_php, BRANCHES):
            print(made.path)
