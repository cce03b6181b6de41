"""How PHP was built: ``[php] bits`` and ``thread_safe``."""

from typing import Final, Literal

from msgspec.structs import replace

from fundamentum.kinds.base import Context
from fundamentum.model.findings import Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value

_BITS: Final = {"x86-64": 64, "ARM64": 64, "PowerPC 64": 64, "RISC-V": 64, "S390": 64, "x86": 32, "ARM": 32}
"""By the processor that a program is for, as its file says."""
_ARCHITECTURES: Final = {"i386": 32, "i686": 32, "armhf": 32, "armv7l": 32, "armel": 32}
"""Architectures of distributions that have no 64 bits."""


class BuildNeed(Value, frozen=True):
    """One thing about the build."""

    aspect: Literal["bits", "thread_safe"]
    wanted: int
    """32 or 64; of thread safety 0 or 1."""
    level: Level = "required"

    @property
    def key(self) -> NeedId:
        return NeedId(f"php:{self.aspect}")


def judged_build(need: BuildNeed, context: Context) -> Finding:
    """Whether the judged PHP was built so; of one that is not there yet, whether the distribution's is."""
    have = _bits(context) if need.aspect == "bits" else _thread_safe(context)
    wanted = _words(need, need.wanted)
    base = Finding(need=need.key, level=need.level, verdict="unknown", wanted=wanted, found="not known")
    if have is None:
        return replace(base, remedy="ask it: php -r 'var_dump(PHP_INT_SIZE * 8, PHP_ZTS);'")
    if have == need.wanted:
        return replace(base, verdict="met", found=_words(need, have))
    remedy = "install a 64-bit system, and PHP there" if need.aspect == "bits" else _other_build(need, context)
    return replace(base, verdict="unmet", state="unobtainable", found=_words(need, have), remedy=remedy)


def _words(need: BuildNeed, value: int) -> str:
    if need.aspect == "bits":
        return f"{value} bits"
    return "thread-safe" if value else "not thread-safe"


def _bits(context: Context) -> int | None:
    branch = context.survey.branch_of(context.target.runtime)
    if branch and branch.processor:
        return _BITS.get(branch.processor)
    name = context.survey.system.architecture
    return _ARCHITECTURES.get(name, 64) if name else None


def _thread_safe(context: Context) -> int | None:
    branch = context.survey.branch_of(context.target.runtime)
    if branch and branch.api:
        return int(branch.thread_safe)
    return 0 if context.offers.platform.packaged and not context.target.present else None


def _other_build(need: BuildNeed, context: Context) -> str:
    build = "thread-safe" if need.wanted else "non-thread-safe"
    return f"use the {build} build of PHP {context.target.runtime.branch}; packages here carry the other one only"
