"""What is risky about a runtime, whatever an application needs: said last, and never in the way."""

from collections.abc import Callable, Iterator
from datetime import date
from typing import Final

import msgspec

from fundamentum.catalog import security_ends
from fundamentum.catalog.quantity import switch
from fundamentum.check.model import Target
from fundamentum.server.model import Runtime


class Risk(msgspec.Struct, frozen=True):
    """One thing worth a look."""

    about: str
    found: str
    why: str
    remedy: str
    origin: str = ""


def risks(target: Target, today: date | None = None) -> tuple[Risk, ...]:
    """The risks of the runtime that is judged; none where it is not installed yet."""
    if not target.present:
        return ()
    return tuple(risk for rule in RULES for risk in rule(target.runtime, today or date.today()))


def _shown_errors(runtime: Runtime, today: date) -> Iterator[Risk]:
    """The manual: this is a feature to support development and should never be used on production systems."""
    setting = runtime.settings.get("display_errors")
    if runtime.sapi == "cli" or setting is None or setting.value is None:
        return
    if switch(setting.value) or setting.value.lower() == "stdout":
        yield Risk(
            "setting:display_errors",
            setting.value,
            "visitors see error messages, with paths and parts of queries in them",
            _set("display_errors", "Off", runtime),
            setting.origin,
        )


def _remote_code(runtime: Runtime, today: date) -> Iterator[Risk]:
    """``include 'https://...'`` runs what another server sends."""
    setting = runtime.settings.get("allow_url_include")
    if setting is not None and setting.value is not None and switch(setting.value):
        yield Risk(
            "setting:allow_url_include",
            setting.value,
            "one unchecked include is enough to run code from another server",
            _set("allow_url_include", "Off", runtime),
            setting.origin,
        )


def _unsupported(runtime: Runtime, today: date) -> Iterator[Risk]:
    """The PHP project's own dates; a distribution may go on fixing its packages."""
    ends = security_ends(runtime.branch)
    if ends is not None and ends < today:
        yield Risk(
            "php",
            runtime.branch,
            f"the PHP project stopped fixing security problems in {runtime.branch} on {ends}; a distribution may go on",
            "find out whether your distribution still maintains it, or move to a newer branch",
            runtime.program or "",
        )


def _set(name: str, value: str, runtime: Runtime) -> str:
    origin = runtime.settings[name].origin.rpartition(":")[0] or runtime.ini_file or "php.ini"
    return f"set {name} = {value} in {origin.removesuffix(' (as packaged)')}"


RULES: Final[tuple[Callable[[Runtime, date], Iterator[Risk]], ...]] = (_shown_errors, _remote_code, _unsupported)
