"""Module streams of an RHEL-family system: which packages belong to which, and which streams are switched on."""

import configparser
from typing import Any, Final

import msgspec

from fundamentum.hosts.base import Host, matching, text_or_none
from fundamentum.lazy_regex import lazy_regex
from fundamentum.untrusted.yaml_document import document

MAX_NAME: Final = 500
_NEVRA: Final = lazy_regex(r"(?P<name>.+)-(?:(?P<epoch>\d+):)?(?P<version>[^-]+)-(?P<release>[^-]+)\.(?P<arch>[^.]+)")


class Modules(msgspec.Struct):
    """Which packages belong to module streams, and which streams are switched on."""

    streams: dict[str, str] = msgspec.field(default_factory=dict)
    """Package, as NEVRA → the stream (``php:8.2``) it belongs to."""
    active: dict[str, str] = msgspec.field(default_factory=dict)
    """Module → stream that is switched on, by hand or by default."""
    names: dict[str, str] = msgspec.field(default_factory=dict)
    """Package name → the active stream that claims it."""


def read_modules(host: Host, documents: list[bytes]) -> Modules:
    """What the documents of repositories and the server's own switches say.  Source: modulemd, dnf's documentation."""
    modules = Modules()
    versions: dict[str, list[tuple[int, dict[str, Any]]]] = {}
    for packed in documents:
        data = document(packed)
        match data:
            case {
                "document": "modulemd-defaults",
                "data": {"module": str(module), "stream": str() | int() | float() as stream},
            }:
                modules.active[module] = str(stream)
            case {
                "document": "modulemd",
                "data": {
                    "name": str(name),
                    "stream": str() | int() | float() as stream,
                    "version": int(version),
                } as about,
            }:
                versions.setdefault(f"{name}:{stream}", []).append((version, about))
            case _:
                continue
    for path in matching(host, "/etc/dnf/modules.d/*.module"):
        configured = configuration(text_or_none(host, path))
        for module in configured.sections():
            state, stream = configured.get(module, "state", fallback=""), configured.get(module, "stream", fallback="")
            if state == "enabled" and stream:
                modules.active[module] = stream
            elif state == "disabled":
                modules.active.pop(module, None)
    for stream, builds in versions.items():
        newest = max(version for version, _ in builds)
        module, _, name = stream.partition(":")
        for version, about in builds:
            artifacts = about.get("artifacts")
            rpms = artifacts.get("rpms") if isinstance(artifacts, dict) else None
            for rpm in rpms if isinstance(rpms, list) else ():
                match = _NEVRA.fullmatch(rpm) if isinstance(rpm, str) and len(rpm) < MAX_NAME else None
                if match:
                    key = f"{match['name']}-{match['epoch'] or 0}:{match['version']}-{match['release']}.{match['arch']}"
                    modules.streams[key] = stream
                    if version == newest and modules.active.get(module) == name:
                        modules.names[match["name"]] = stream
    return modules


def configuration(text: str | None) -> configparser.ConfigParser:
    """A file of dnf's; empty where it cannot be read as one."""
    parser = configparser.ConfigParser(interpolation=None, strict=False, allow_no_value=True)
    try:
        parser.read_string(text or "")
    except (configparser.Error, ValueError, AttributeError):
        return configparser.ConfigParser(interpolation=None)
    return parser
