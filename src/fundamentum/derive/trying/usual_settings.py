"""Settings of PHP as they are on a server where there is plenty."""

from collections.abc import Mapping
from typing import Final

from fundamentum.derive.families import COMPARED, LIMITS, SWITCHES, TEXTS, ZONE

DIRECTIVE: Final = "ini "
"""Stands before the name of a directive, or of what lies beneath PHP, among what is asked for."""
GONE: Final = frozenset({"safe_mode", "register_globals", "magic_quotes_gpc", "magic_quotes_runtime"})
"""Directives that no PHP has any more: asked for, they are false."""
PLENTY: Final = 99_999
MEGABYTE: Final = 1 << 20
SIZES: Final = frozenset(
    "memory_limit upload_max_filesize post_max_size opcache.jit_buffer_size apc.shm_size realpath_cache_size".split()
)
SETTINGS: Final[Mapping[str, str]] = {
    **{name: f"{PLENTY}M" if name in SIZES else str(PLENTY) for name in LIMITS | COMPARED},
    **{name: "1" if usual else "" for name, usual in SWITCHES.items()},
    **{name: usual for name, (usual, _, _) in TEXTS.items()},
    ZONE: "Europe/Berlin",
}
"""Directive → its value on a server where there is plenty."""
