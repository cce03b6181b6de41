"""Functions that an application calls, and that may be taken away: ``[functions]``."""

from collections.abc import Iterator, Mapping
from typing import Any, Final

from msgspec.structs import replace

from fundamentum.catalog import HARVESTED, branch_key, own_functions
from fundamentum.catalog.symbols import EVERYWHERE, Symbol, providers, symbols
from fundamentum.effective.confinement import disabled
from fundamentum.kinds.base import Context, Kind
from fundamentum.kinds.extensions.activation import for_extension
from fundamentum.kinds.extensions.state import ORDER, standing
from fundamentum.kinds.table_reader import NamesTable, Reader, did_you_mean
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.findings import Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value
from fundamentum.model.promises import Promise

_NAME: Final = lazy_regex(r"[A-Za-z_][A-Za-z0-9_]{0,99}(?:\(\))?")


class FunctionNeed(Value, frozen=True):
    """One function, or any one of several."""

    names: tuple[str, ...]
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId("function:" + "|".join(self.names))


class Functions(Kind[FunctionNeed]):
    """Functions: not switched off, and brought by an extension that is loaded."""

    prefixes = ("function",)
    order = 16
    tables = {"functions": NamesTable}
    on_command_line = True

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[FunctionNeed]:
        seen: set[tuple[str, ...]] = set()
        for level, entry in reader.listed("functions", tables["functions"]):
            names = tuple(name.strip() for name in entry.split("|"))
            wrong = next((name for name in names if not _NAME.fullmatch(name)), None)
            names = tuple(name.removesuffix("()").lower() for name in names)
            if wrong is not None or names in seen:
                what = f"'{entry}' is listed twice" if wrong is None else f"'{wrong}' is no name of a function"
                reader.refuse(["functions", level], what, entry)
                continue
            seen.add(names)
            yield FunctionNeed(names, level)

    def judge(self, need: FunctionNeed, context: Context) -> Finding:
        """The finding for the best of the alternatives: of equally good ones the first."""
        order = ("met", "unmet", "unknown")
        findings = [_judged(name, need, context) for name in need.names]
        return min(
            findings,
            key=lambda finding: (order.index(finding.verdict), ORDER.index(finding.state) if finding.state else 9),
        )

    def written(self, need: NeedId) -> str:
        return f'[functions]\nrequired = ["{" | ".join(need.names)}"]'

    def promised(self, finding: Finding, context: Context) -> Iterator[Promise]:
        yield Promise(finding.need, "function", finding.subject or finding.need.names[0], "there")


def _judged(name: str, need: FunctionNeed, context: Context) -> Finding:
    base = Finding(need=need.key, level=need.level, verdict="unmet", wanted=" or ".join(need.names), subject=name)
    gone, setting = disabled(context.target)
    if setting and setting.value is None:
        why = f"whether it is switched off is not known: look at disable_functions at {setting.origin}"
        return replace(base, verdict="unknown", found="not known", remedy=why)
    if name in gone and setting:
        remedy = f"take {name} out of disable_functions at {setting.origin}; it counts for everything that runs with "
        remedy += "that file, so it is for you to decide"
        return replace(base, found="switched off", state="switched-off", origin=setting.origin, remedy=remedy)
    if branches := own_functions().get(name):
        return _own(base, name, branches, context)
    bringing = providers("function", name)
    if not bringing:
        known = [*own_functions(), *(known for kind, known in symbols() if kind == "function")]
        hint = did_you_mean(name, (name_known for name_known in known if name_known[:1] == name[:1]))
        remedy = "no function of that name is known here: check the spelling, or ask PHP itself"
        return replace(base, verdict="unknown", found="not known", remedy=f"{remedy}{hint}")
    return _of_extension(base, name, bringing, context)


def _own(base: Finding, name: str, branches: tuple[str, ...], context: Context) -> Finding:
    """A function that needs no extension, in branches that have it; what is known of three holds between them."""
    branch = branch_key(context.target.runtime.branch)
    oldest, newest = branch_key(branches[0]), branch_key(branches[-1])
    early = branch < oldest and branches[0] != HARVESTED[0]
    late = branch > newest and branches[-1] != HARVESTED[-1]
    if not early and not late:
        return replace(base, verdict="met", found="part of PHP itself")
    actual = f"not part of PHP {context.target.runtime.branch}, but of {branches[0]}" if early else "gone from PHP"
    remedy = "use a branch that has it, or ask whether the application still calls it"
    return replace(base, state="other-branch", found=actual, remedy=remedy)


def _of_extension(base: Finding, name: str, bringing: tuple[Symbol, ...], context: Context) -> Finding:
    branch = context.target.runtime.branch
    fitting = [symbol for symbol in bringing if _in(symbol, branch)]
    if not fitting:
        since = next((f"only from PHP {symbol.since} on" for symbol in bringing if symbol.since), None)
        gone = next((f"gone since PHP {symbol.gone}" for symbol in bringing if symbol.gone), None)
        remedy = "use a branch that has it, or ask whether the application still calls it"
        return replace(base, state="other-branch", found=gone or since, remedy=remedy)
    if any(symbol.extension in EVERYWHERE for symbol in fitting):
        return replace(base, verdict="met", found="part of PHP itself")
    standings = [standing(symbol.extension, context) for symbol in fitting]
    best = min(standings, key=lambda each: ORDER.index(each.state) if each.state else len(ORDER))
    if best.state == "active":
        return replace(base, verdict="met", found=f"of the extension {best.name}", origin=best.origin)
    return replace(
        base,
        verdict="unmet" if best.state else "unknown",
        state=best.state,
        found=f"the extension {best.name}: {best.found}",
        remedy=best.remedy,
        package=best.package,
        demands=tuple(for_extension(best, context)) if best.state else (),
    )


def _in(symbol: Symbol, branch: str) -> bool:
    key = branch_key(branch)
    since, gone = (branch_key(text) if text else None for text in (symbol.since, symbol.gone))
    return (since is None or key >= since) and (gone is None or key < gone)


KIND = Functions()
