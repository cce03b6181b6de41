"""Which package brings a command, from the indexes that the server keeps of commands, or of all files."""

import io
from collections.abc import Sequence
from typing import Final

from fundamentum.catalog.suppliers import suppliers
from fundamentum.hosts.base import Host, HostError, listed
from fundamentum.lazy_regex import lazy_regex
from fundamentum.platforms.debian import control
from fundamentum.platforms.debian.contents import LISTS, bringing
from fundamentum.untrusted.decompress import unpack

MAX_COMMANDS: Final = 64 * 1024 * 1024
"""Bytes of one index of commands."""


_INDEX: Final = lazy_regex(r".+_cnf_Commands-[a-z0-9]+(?P<packing>\.gz|\.xz|\.lz4)?")


def indexed_commands(host: Host, names: Sequence[str]) -> dict[str, list[str]]:
    """Command → packages, from the indexes of commands or of all files, where the server keeps such.

    The latter are long, and asked only for what the catalogue does not know.
    """
    wanted = set(names)
    packages: dict[str, list[str]] = {}
    for name in listed(host, LISTS):
        match = _INDEX.fullmatch(name)
        if not match:
            continue
        try:
            data = host.read(f"{LISTS}/{name}", MAX_COMMANDS) or b""
        except HostError:
            continue
        if match["packing"]:
            data, _ = unpack(data, match["packing"], MAX_COMMANDS)
        package = ""
        for text in io.BytesIO(data):
            line = text.decode("utf-8", "replace").rstrip("\r\n")
            key, _, value = line.partition(": ")
            if key == "name":
                package = value
            elif key == "commands" and control.PACKAGE_NAME.fullmatch(package):
                for command in wanted.intersection(value.replace(" ", "").split(",")):
                    packages.setdefault(command, []).append(package)
    left = [name for name in names if name not in packages and name not in suppliers().commands]
    return {**bringing(host, left), **packages}
