"""How a single need stands in every way of running PHP on a server: of those kinds that have no trace of their own."""

from collections.abc import Iterator, Sequence

from fundamentum.check.judge import check
from fundamentum.check.trace import InRuntime, Place, Trace, Wanted
from fundamentum.model.findings import Finding
from fundamentum.model.needs import Needs
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


def trace_need(single: Needs, survey: Survey, applications: Sequence[Needs]) -> Trace:
    """The one need of ``single``, judged for each runtime; and the applications that have such a need too."""
    need = single.needs[-1]
    offers = Offers(survey)
    runtimes = tuple(
        _in_runtime(runtime.label, check(single, survey, runtime.label, offers).findings[-1])
        for runtime in survey.runtimes
    )
    kind, _, name = need.key.partition(":")
    facts = () if runtimes else ("no PHP runs here",)
    return Trace(kind, name, facts, runtimes, (), tuple(_wanted(need.key, applications)))


def _in_runtime(label: str, finding: Finding) -> InRuntime:
    state = f"{finding.state}, " if finding.state else ""
    places = (Place(str(finding.origin), finding.found or "", True),) if finding.origin else ()
    return InRuntime(label, f"{state}{finding.found or finding.verdict}", places, finding.advice or "")


def _wanted(key: str, applications: Sequence[Needs]) -> Iterator[Wanted]:
    kind = key.partition(":")[0]
    for needs in applications:
        for need in needs.needs:
            if need.key.kind == kind and (need.key.covers(key) or set(need.key.names) & {key.partition(":")[2]}):
                text = getattr(need, "text", "") or " or ".join(need.key.names)
                yield Wanted(needs.name, need.level, text, needs.note(need.key) or "")
