"""What was understood of a text of requirements: each sentence with the entries that it became."""

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from fundamentum.prose.requirements import Understood
from fundamentum.prose.statement import Statement
from fundamentum.report.escape import clean
from fundamentum.report.styles import STYLES


def write_understood(console: Console, understood: Understood) -> None:
    """The sentences, and how many there are of which nothing was understood."""
    console.print(Text(clean(f"{understood.needs.name}: {len(understood.needs.needs)} needs"), style="bold"))
    table = Table.grid(padding=(0, 2))
    table.add_column(overflow="fold", max_width=60)
    table.add_column(overflow="fold", ratio=1)
    for line, statements in understood.sentences:
        words = "\n".join(dict.fromkeys(map(_in_words, statements)))
        table.add_row(Text(clean(line.text)), Text("\n".join(map(clean, words.split("\n"))), style=STYLES["name"]))
    console.print(Padding(table, (1, 0, 1, 2)))
    if understood.rest:
        console.print(Text(f"{len(understood.rest)} sentences are not understood", style=STYLES["recommended"]))


def _in_words(statement: Statement) -> str:
    """An entry as a needs file has it."""
    table = f"[{'.'.join(statement.table)}]"
    return f"{table} {statement.key} = {statement.value}" if statement.key else f"{table} {statement.value}"
