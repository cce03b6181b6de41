"""On which kind of system a server runs: one file or folder for each, found by its name, loaded when it is asked for.

What differs from one family of systems to the other stands there.  An entry's module has a ``PLATFORM``
(:class:`~fundamentum.platforms.base.Platform`), which survey, check, plan and report ask.  It may have functions that
read a server, in itself or in a part of its folder:

``layout.py``
    ``installations(host, system)``: where PHP stands.  Every entry is asked, on every server: a server may have a PHP
    that is laid out as another family does it.
``packages.py``
    ``read(host, system, asked, also)``: installed packages and those on offer; ``owners_of(host, paths)``: which
    package brought a program; ``index_key(path)`` and ``offers_of(path, survey)``: an index that is not configured.
``recorder.py``
    ``answers()``: shell commands whose output a recorder takes along.
``script.sh``
    shell functions of a plan's script.
``recorder_paths.sh``, ``recorder.awk``, ``recorder_contents.sh``
    what a recorder lists beside the paths of ``PLATFORM.recorded``; of which kind its files are, and which of their
    lines may leave the server; what is taken of those that are not read line by line (see ``survey/recorder``).

Beside a module that is no folder such a text is called ``NAME_script.sh``, ``NAME_recorder.awk`` and so on.
"""

from collections.abc import Iterator, Sequence
from functools import cache
from types import ModuleType

from fundamentum import entries
from fundamentum.hosts.base import Host
from fundamentum.model.packages import Offer
from fundamentum.platforms.base import Platform

UNKNOWN = "unknown"
_NO_ENTRIES = frozenset({"base", "offers"})


def names() -> tuple[str, ...]:
    """The platforms that there are."""
    return entries.names(__name__, _NO_ENTRIES)


def _known(name: str) -> str:
    """The name, if there is such a platform: it may come from a file."""
    return name if name in names() else UNKNOWN


@cache
def platform(name: str) -> Platform:
    """The platform of that name, as a survey's system has it; the unknown one where there is none."""
    entry = entries.entry(__name__, _known(name)).PLATFORM
    assert isinstance(entry, Platform)
    return entry


def packaging(name: str, offer: Offer) -> Platform:
    """The platform by whose rules a package on offer is named.

    That is the server's own, or where that has no packages, the first that knows the package for one of PHP: a server
    of which only an information page is known may be held against an index.
    """
    own = platform(name)
    if own.packaged:
        return own
    others = (platform(other) for other in names() if platform(other).packaged)
    return next((other for other in others if other.branch_of_offer(offer)), own)


def families(*, scripted: bool = False) -> str:
    """The platforms for which a playbook can be written, in words: ``Debian family and RHEL family``; or a script."""
    of = [platform(name) for name in names()]
    return " and ".join(family.title for family in of if (family.script_language if scripted else family.carried_out))


def part(name: str, what: str) -> ModuleType:
    """A part of a platform, such as ``packages``: its functions, as far as it has them, are told above."""
    return entries.part(__name__, _known(name), what)


def text_of(name: str, file: str) -> str:
    """A text of a platform: that file in its folder, ``NAME_FILE`` beside a module; empty if there is none."""
    return entries.text_of(__name__, _known(name), file)


def parts(what: str, function: str, first: str = UNKNOWN, *, windows: bool = True) -> Iterator[ModuleType]:
    """The parts of all platforms that have a function: that of the platform called ``first`` before all others.

    Those that claim what no other does (:attr:`Platform.last`) come at the end.  Without ``windows`` those that only
    concern Windows are left out, and not even loaded.
    """
    others = (name for name in names() if windows or platform(name).os_name != "Windows")
    for name in sorted(others, key=lambda name: (name != first, platform(name).last, name)):
        if hasattr(module := part(name, what), function):
            yield module


def recognised(host: Host, own: str, like: Sequence[str]) -> tuple[str, str | None]:
    """The platform of a server, and how it was told where the server does not name it itself.

    ``own`` and ``like`` are the words of ``ID`` and ``ID_LIKE``.  A package database alone tells nothing: other
    kinds of systems use the same one with other paths and other commands.
    """
    for name in names():
        if (own in platform(name).ids and platform(name).has_database(host)) or platform(name).is_certain(host):
            return name, None
    for name in names():
        of = platform(name)
        said = next((word for word in like if word in of.ids), None)
        if (said or not own) and of.has_database(host) and any(host.stat(path) for path in of.marks):
            why = f"says to be like {said}" if said else "does not say what it is"
            return name, f"treated as one of the {of.title}: it {why}, and has its package database and paths"
    return UNKNOWN, None
