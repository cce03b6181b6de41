"""What a service sees and may write, as its unit says, held against a real systemd that starts it in a namespace of its own."""

import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from debian_root import STORE, Root, base

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.survey.probes.sandboxes import probe

pytestmark = pytest.mark.real
PATIENCE = 60.0
PLACES = (
    "/srv/x",
    "/srv/y",
    "/home/ida/z",
    "/usr/share/q",
    "/var/lib/st",
    "/var/cache/st",
    "/var/tmp/n",
    "/etc",
    "/opt/m m",
)
CASES = (
    "ProtectSystem=yes",
    "ProtectSystem=full",
    "ProtectSystem=strict",
    "ProtectSystem=strict\nProtectSystem=no",
    "ProtectSystem=strict\nReadWritePaths=/srv\nReadOnlyPaths=-/srv/x /nowhere/at/all",
    'ProtectSystem=strict\nReadWritePaths="/opt/m m" +/srv/y',
    "ProtectSystem=strict\nReadWritePaths=/srv\nReadWritePaths=\nReadWritePaths=/opt",
    "ProtectSystem=strict\nPrivateTmp=yes",
    "ProtectSystem=strict\nStateDirectory=st\nCacheDirectory=st",
    "ProtectHome=yes\nReadWritePaths=/home/ida",
    "ProtectHome=read-only\nReadWritePaths=/home/ida",
    "ProtectHome=read-only",
    "ProtectHome=tmpfs",
    "PrivateTmp=yes",
    "InaccessiblePaths=/srv\nReadWritePaths=/srv/x",
    "ReadOnlyPaths=/",
    "ReadOnlyPaths=/\nReadWritePaths=/srv/x/deeper /srv/y",
)
SEES = """\
for place; do
    if [ ! -d "$place" ]; then echo hidden; elif touch "$place/t" 2>/dev/null; then echo writable; else echo read-only; fi
done >"$told.new" && mv "$told.new" "$told"
"""
BEGINS = """\
mount -t proc proc "$1/proc" && mount -t sysfs sysfs "$1/sys" && mount -t tmpfs tmpfs "$1/run" && mount --rbind /dev "$1/dev" &&
    mount -t tmpfs tmpfs "$1/sys/fs/cgroup" && mkdir "$1/sys/fs/cgroup/systemd" &&
    mount -t cgroup -o none,name=systemd cgroup "$1/sys/fs/cgroup/systemd"
exec chroot "$1" env -i container=lxc PATH=/usr/sbin:/usr/bin /lib/systemd/systemd --system
"""


@pytest.fixture(scope="module")
def told() -> Iterator[tuple[Root, list[list[str]]]]:
    """A server whose units say all of this, and what each service told of the places."""
    with base("bookworm").layer(STORE / "case-seen-by-service") as root:
        root.install("systemd")
        root.run("mkdir", "-p", "/told", *PLACES, "/srv/x/deeper")
        root.run(
            "chmod",
            "-R",
            "777",
            "/told",
            "/srv",
            "/home",
            "/opt",
            "/usr/share/q",
            "/var/tmp/n",
            "/var/lib/st",
            "/var/cache/st",
        )
        wants = root.path / "etc/systemd/system/multi-user.target.wants"
        wants.mkdir(parents=True, exist_ok=True)
        root.write("/usr/local/bin/sees", SEES)
        given = " ".join(f'"{place}"' for place in PLACES)
        for number, lines in enumerate(CASES):
            name = f"case{number}.service"
            start = f"Environment=told=/told/{number}\nExecStart=/bin/sh /usr/local/bin/sees {given}"
            # Where it tells, and nothing of what is asked for.
            root.write(
                f"/etc/systemd/system/{name}", f"[Service]\nType=oneshot\n{start}\n{lines}\nReadWritePaths=/told\n"
            )
            (wants / name).symlink_to(f"../{name}")
        root.run("ln", "-sf", "/lib/systemd/system/multi-user.target", "/etc/systemd/system/default.target")
        yield root, _as_services_tell(root.path)


def _as_services_tell(root: Path) -> list[list[str]]:
    alone = ["unshare", "--pid", "--mount", "--uts", "--ipc", "--fork", "--kill-child"]
    begun = subprocess.Popen(
        [*alone, "sh", "-c", BEGINS, "sh", root], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    files = [root / "told" / str(number) for number in range(len(CASES))]
    try:
        end = time.monotonic() + PATIENCE
        while not all(file.exists() for file in files) and time.monotonic() < end:
            time.sleep(0.2)
    finally:
        begun.kill()
        begun.wait()
    return [file.read_text().splitlines() if file.exists() else [] for file in files]


@pytest.mark.parametrize("number", range(len(CASES)), ids=[case.replace("\n", ", ") for case in CASES])
def test_a_service_sees_what_its_unit_says(told: tuple[Root, list[list[str]]], number: int) -> None:
    root, answers = told
    (box,) = probe(DirectoryHost(root.path, "seen"), [f"case{number}"])
    known = {"its own": "hidden"}  # of what others have there, it sees nothing
    fences = [box.around(place) for place in PLACES]
    said = [known.get(fence.access, fence.access) if fence else "writable" for fence in fences]
    assert box.unsure is None
    assert dict(zip(PLACES, said, strict=True)) == dict(zip(PLACES, answers[number], strict=True))
