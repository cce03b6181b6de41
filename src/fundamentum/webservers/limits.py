"""What web servers allow a request: how each writes it, and what it comes to."""

import math
import re
from collections.abc import Callable, Iterator, Sequence
from typing import Final

import msgspec

from fundamentum.catalog.quantity import quantity
from fundamentum.model.findings import Link
from fundamentum.model.surroundings import Limit
from fundamentum.model.survey import Site, Survey

MEGA: Final = 2**20
SERVERS: Final = {"nginx": "nginx", "apache2": "Apache", "iis": "IIS"}
_APACHE_PACKAGES: Final = ("apache2-bin", "apache2", "httpd-core", "httpd")
_NEW_APACHE: Final = (2, 4, 53)
_UNITS: Final = {
    "ms": 0.001, "s": 1, "": 1, "m": 60, "mi": 60, "h": 3600, "d": 86400, "w": 604800, "M": 2592000, "y": 31536000
}  # fmt: skip


class _Kind(msgspec.Struct, frozen=True):
    """How one directive of a web server is read and written."""

    read: Callable[[str], float | None]
    write: Callable[[int], str]


def _nginx_size(text: str) -> float | None:
    match = re.fullmatch(r"(\d+)([kKmMgG]?)", text)
    if not match:
        return None
    return math.inf if int(match[1]) == 0 else quantity(text).number


def span(text: str) -> float | None:
    """A length of time in seconds: ``90``, ``5m``, ``1h30m``, ``500ms``; None if it is none."""
    parts = re.findall(r"(\d+)\s*(ms|mi|[smhdwMy]?)", text)
    if not parts or "".join(f"{number}{unit}" for number, unit in parts) != re.sub(r"\s", "", text):
        return None
    return sum(int(number) * _UNITS[unit] for number, unit in parts)


def _bytes(text: str) -> float | None:
    return float(text) if text.isascii() and text.isdigit() else None


def _bytes_or_none(text: str) -> float | None:
    number = _bytes(text)
    return math.inf if number == 0 else number


SIZES: Final = {
    "client_max_body_size": _Kind(_nginx_size, lambda least: f"{math.ceil(least / MEGA)}m"),
    "LimitRequestBody": _Kind(_bytes_or_none, str),
    "FcgidMaxRequestLen": _Kind(_bytes, str),
    "maxAllowedContentLength": _Kind(_bytes, str),
}
TIMES: Final = {
    "fastcgi_read_timeout": _Kind(span, lambda least: f"{least}s"),
    "ProxyTimeout": _Kind(span, str),
    "timeout": _Kind(span, str),
    "FcgidIOTimeout": _Kind(span, str),
    "FcgidBusyTimeout": _Kind(span, str),
    "activityTimeout": _Kind(span, str),
    "requestTimeout": _Kind(span, str),
}


def allowed(sites: Sequence[Site], kinds: dict[str, _Kind], least: int, to: int, survey: Survey) -> Iterator[Link]:
    """What the web servers in front allow, site by site."""
    for site in sites:
        for limit in site.limits:
            if limit.name not in kinds:
                continue
            kind = kinds[limit.name]
            value = limit.value or _built_in(limit, survey)
            amount = kind.read(value)
            enough = None if amount is None else amount >= least
            wanted = kind.write(to)
            yield Link(
                of=SERVERS[site.server],
                name=limit.name,
                value=limit.value,
                shown=value if value != "0" or amount != math.inf else "0 (no limit)",
                amount=amount,
                least=least,
                origin=limit.origin,
                enough=enough,
                remedy=_widen(site, limit, wanted) if enough is False else "",
                site=f"{site.name} {limit.part or site.part or ''}".strip(),
                to=wanted,
            )


def _built_in(limit: Limit, survey: Survey) -> str:
    """Apache's own limit on a body: none, and 1 GiB from 2.4.53 on.  Source: Apache's documentation."""
    if limit.name != "LimitRequestBody":
        return limit.value
    versions = {one.name: one.version for one in survey.installed or ()}
    version = next((versions[name] for name in _APACHE_PACKAGES if name in versions), "")
    numbers = tuple(int(n) for n in re.findall(r"\d+", version.partition(":")[2] or version)[:3])
    return "0" if numbers and numbers < _NEW_APACHE else "1073741824"


def _widen(site: Site, limit: Limit, to: str) -> str:
    if site.server == "iis":
        return f"set {limit.name} to {to} for {site.name}"
    if limit.name == "timeout":
        return f"change timeout={limit.value} to timeout={to} at {limit.origin}"
    line = f"{limit.name} {to}{';' if site.server == 'nginx' else ''}"
    if limit.own:
        return f"write {line} at {limit.own.file}:{limit.own.line}"
    if site.spot:
        return f"add {line} behind {site.spot.file}:{site.spot.line}"
    return f"write {line} where {site.name} is set up ({site.origin})"
