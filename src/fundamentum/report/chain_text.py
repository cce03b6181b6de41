"""The links of a chain of limits, a line each: what it allows, where that is set, and which is the narrowest."""

from rich.text import Text

from fundamentum.kinds.limits.limit_chain import narrowest
from fundamentum.model.findings import Finding
from fundamentum.report.escape import clean
from fundamentum.report.styles import STYLES


def chain_lines(finding: Finding) -> Text:
    """In the order in which a request meets them."""
    least = narrowest(finding.chain)
    several = len({link.site for link in finding.chain if link.site}) > 1
    names = [f"{link.of} {link.name}" + (f" ({link.site})" if several and link.site else "") for link in finding.chain]
    wide = min(max(map(len, names), default=0), 60)
    values = min(max((len(link.shown) for link in finding.chain), default=0), 20)
    lines = []
    for name, link in zip(names, finding.chain, strict=True):
        mark = {True: "  ", False: "x ", None: "? "}[link.enough]
        style = {True: STYLES["met"], False: STYLES["unmet"], None: STYLES["recommended"]}[link.enough]
        end = "  narrowest" if link is least and link.enough is False else ""
        lines.append(
            Text.assemble(
                (mark, style),
                clean(f"{name:<{wide}}  "),
                (clean(f"{link.shown:<{values}}"), "" if link.enough else style),
                (end, style),
                (clean(f"  {link.origin}" if link.of != "disk" else ""), STYLES["dim"]),
            )
        )
    return Text("\n").join(lines)
