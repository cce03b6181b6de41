"""Lists of extensions that one file has and another holds against what is loaded: ``Config::EXTENSIONS``."""

from collections import defaultdict

from msgspec.structs import replace

from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.php_source.facts import Check, FileFacts


class HeldLists:
    """What is held, and which lists there are, by name."""

    def __init__(self) -> None:
        self._held: dict[str, Check] = {}
        self._files: dict[str, set[str]] = defaultdict(set)

    def take(self, file: SourceFile, facts: FileFacts) -> None:
        """One more file of the application's own."""
        if file.part != "own":
            return
        for check in facts.held:
            known = self._held.setdefault(check.list_name, check)
            if known.outcome != "listed-required":
                self._held[check.list_name] = check
        for check in facts.checks:
            if check.list_name:
                self._files[check.list_name].add(file.path)

    def as_held(self, check: Check) -> Check:
        """The check of a list, with what comes of it where it is held; a name that several files have tells nothing."""
        held = self._held.get(check.list_name)
        if held is None or check.outcome != "asked" or len(self._files[check.list_name]) > 1:
            return check
        return replace(check, outcome=held.outcome, around=held.around)
