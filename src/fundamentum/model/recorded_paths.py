"""What a recorder takes along from a server: told by each platform and each web server for itself."""

import msgspec


class Recorded(msgspec.Struct, frozen=True):
    """Shell patterns of paths."""

    here: tuple[str, ...] = ()
    """Files and directories, as they stand."""
    below: tuple[str, ...] = ()
    """Directories with everything in them."""
    extensions: tuple[str, ...] = ()
    """Directories whose extension files are taken, however deep they stand."""
    units: tuple[str, ...] = ()
    """How the names of systemd's units begin that start it."""
