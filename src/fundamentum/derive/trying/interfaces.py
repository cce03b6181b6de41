"""What one way into a program comes to as a page, beside the same from the command line."""

from functools import cached_property

from fundamentum.derive.trying.coming import what_comes
from fundamentum.derive.trying.program import Program
from fundamentum.derive.trying.requests import COMMAND_LINE, PAGE
from fundamentum.derive.trying.runs import ENDS, ENOUGH, Run, Way
from fundamentum.derive.trying.worlds import World


class Interfaces:
    """One way, gone on a server by what the program is run."""

    def __init__(self, program: Program, way: Way, base: Run) -> None:
        """``base``: the way as it is gone where nothing is missing, and nothing is known of by what it is run."""
        self._program, self._way, self._base = program, way, base

    def _run(self, interface: str, missing: frozenset[str] = frozenset()) -> Run:
        return Run(self._program, self._way, World(missing, self._base.world.version, interface=interface))

    @cached_property
    def _page(self) -> Run | None:
        """None: it is a script that refuses pages, which may look at what pages need."""
        page = self._run(PAGE)
        return None if page.end in ENDS or page.end == ENOUGH else page

    @cached_property
    def _command(self) -> Run:
        return self._run(COMMAND_LINE)

    @cached_property
    def asked_by_commands(self) -> frozenset[str]:
        """What is asked for, but not where a page is."""
        page = self._page if self._base.world.interface_asked else None
        return frozenset(self._base.world.asked.keys() - page.world.asked.keys()) if page is not None else frozenset()

    def only_for_commands(self, name: str, without: Run) -> bool:
        """Whether something comes of what is missing on the command line, and nothing where a page is asked for.

        ``without``: the way as it is gone where that is missing.
        """
        page = self._page if without.world.interface_asked else None
        if page is None:
            return False
        missing = frozenset({name})
        if what_comes(self._run(PAGE, missing), page, 0).outcome:
            return False
        return bool(what_comes(self._run(COMMAND_LINE, missing), self._command, 0).outcome)
