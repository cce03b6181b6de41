"""What a check advises about settings: the changes that a plan for the application makes, in words.

So both name the same value, the widest that any need of the application wants, and the same file.
"""

from collections.abc import Mapping

from msgspec.structs import replace

from fundamentum.catalog.setting_line import ini_text, with_value
from fundamentum.check.offers import Market
from fundamentum.model.actions import ChangeLine, Reason, Set
from fundamentum.model.findings import Finding, Judgement, Link
from fundamentum.model.survey import Survey
from fundamentum.plan.mending import mend


def advised(one: Judgement, survey: Survey, market: Market) -> Judgement:
    """The judgement with the remedies of its settings as a plan for it would have them."""
    reasons: dict[str, dict[Reason, None]] = {}
    actions = mend([one], survey, market, one.needs.name[:60], ("required", "recommended"), reasons)
    lines: dict[tuple[str, str], str] = {}
    for action in actions.values():
        if isinstance(action, Set | ChangeLine):
            lines[action.runtime, action.name] = in_words(action)
    found = _with(one, lines)
    return replace(found, command_line=_with(one.command_line, lines)) if one.command_line else found


def in_words(change: Set | ChangeLine) -> str:
    """The change as a person would make it: the line in the syntax of its file, and where it goes."""
    if isinstance(change, ChangeLine):
        line = with_value(change.spot.text, change.syntax, change.name, change.after)
        what = line.strip() if line else f"{change.name} = {change.after}"
        return f"write {what} at {change.spot.file}:{change.spot.line}"
    text = ini_text(change.after) or ""
    word = "php_admin_value" if change.admin else "php_value"
    name = f"{word}[{change.name}]" if change.pool else change.name
    return f"set {name} = {text} in {change.file}"


def _with(one: Judgement, lines: Mapping[tuple[str, str], str]) -> Judgement:
    own = {name: line for (runtime, name), line in lines.items() if runtime == one.target.runtime.label}
    return replace(one, findings=tuple(_finding(finding, own) for finding in one.findings)) if own else one


def _finding(finding: Finding, lines: Mapping[str, str]) -> Finding:
    if finding.verdict != "unmet" or finding.state == "awaiting-restart":
        return finding
    if finding.need.kind == "setting" and (line := lines.get(finding.need.names[0])):
        return replace(finding, remedy=line)
    if not any(link.name in lines for link in finding.chain):
        return finding
    chain = tuple(_link(link, lines) for link in finding.chain)
    narrow = dict.fromkeys(link.remedy for link in chain if link.enough is False and link.remedy)
    return replace(finding, chain=chain, remedy="; ".join(narrow))


def _link(link: Link, lines: Mapping[str, str]) -> Link:
    mine = link.of == "PHP" and link.enough is False and link.state != "awaiting-restart"
    return replace(link, remedy=lines[link.name]) if mine and link.name in lines else link
