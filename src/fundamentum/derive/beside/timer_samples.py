"""Samples of systemd timers beside an application, as programs that are to be run at set times."""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.catalog.timers import timer_interval
from fundamentum.derive.beside.files_beside import files_in, line_at, texts_of
from fundamentum.derive.result import Entry, Place
from fundamentum.lazy_regex import lazy_regex

_FOLDERS: Final = (
    "", "systemd", "contrib", "contrib/systemd", "etc", "etc/systemd", "etc/systemd/system", "docs", "doc", "examples",
    "deploy", "packaging", "packaging/systemd", "extras", "misc", "resources/systemd", "scripts", "debian", "cron",
)  # fmt: skip
_SAMPLE: Final = re.compile(r"\.(?:sample|example|dist)\Z")
_UNIT: Final = lazy_regex(r"^[ \t]*Unit[ \t]*=[ \t]*(\S+)", re.M)
_RUNS: Final = lazy_regex(
    r"^[ \t]*ExecStart[ \t]*=[ \t]*[-@:+!]{0,3}(?:\S{0,200}php[\d.]{0,5}[ \t]+)?"
    r"(?:-\S{1,100}[ \t]+){0,9}(?:\S{0,200}?/)?(?P<script>(?:[\w-]{1,60}/)?[\w-]{1,60}(?:\.php)?)(?=\s|\Z)",
    re.M,
)
MAX_TIMERS: Final = 20


def timer_samples(root: str, base: str) -> Iterator[Entry]:
    """The tasks that timers beside the application run, each with the service of its name."""
    every_file = (path for _, path in files_in(root, base, _FOLDERS))
    units = {_SAMPLE.sub("", path): path for path in every_file if ".timer" in path or ".service" in path}
    for name, path in [unit_file for unit_file in units.items() if unit_file[0].endswith(".timer")][:MAX_TIMERS]:
        text = next((text for _, text in texts_of(root, [path])), "")
        every = timer_interval(text)
        if every is None or every % 60:
            continue
        unit = _UNIT.search(text)
        service = units.get(f"{path.rpartition('/')[0]}/{unit[1]}".lstrip("/") if unit else f"{name[:-6]}.service", "")
        for service_path, runs in texts_of(root, [service] if service else []):
            if match := _RUNS.search(runs):
                line = line_at(runs, match.start("script"))
                place = Place(service_path, line, match["script"], "the timer says it")
                yield Entry("task", (match["script"],), "recommended", _written(every), f"{path} says", (place,))


def _written(every: int) -> str:
    for name, seconds in (("monthly", 2678400), ("weekly", 604800), ("daily", 86400)):
        if every == seconds:
            return name
    return f"every {every // 3600}h" if every % 3600 == 0 else f"every {every // 60}m"
