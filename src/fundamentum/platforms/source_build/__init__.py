"""PHP built from source, on any kind of system: a server is never of this kind, but a PHP on it may be."""

from fundamentum.model.recorded_paths import Recorded
from fundamentum.platforms.base import Platform


class SourceBuild(Platform):
    """Where ``make install`` puts PHP."""

    title = "PHP built from source"
    last = True
    root_signs = ("usr/local/bin/php",)
    recorded = Recorded(
        here=(
            *("/usr/local/*", "/usr/local/bin/php*", "/usr/local/sbin/php*"),
            *("/usr/local/*/bin/php*", "/usr/local/*/sbin/php*"),
            *("/opt/*", "/opt/*/*", "/opt/*/bin/php*", "/opt/*/sbin/php*"),
        ),
    )


PLATFORM = SourceBuild()
