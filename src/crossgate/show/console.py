"""The terminal: one console, wide enough not to break lines when it is no terminal, and the colours of the answers."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Sequence
from itertools import zip_longest

from rich.console import Console
from rich.text import Text

PIPE_WIDTH = 400
GOOD, BAD, UNSURE, QUIET, STRONG = "green", "red", "yellow", "bright_black", "bold"
STYLES = {
    "permit": GOOD, "deny": BAD, "reject": BAD, "permitted": GOOD, "denied": BAD, "half-open": UNSURE, "unroutable": "magenta",
    "error": BAD, "warning": UNSURE, "note": "cyan",
}  # fmt: skip


def console() -> Console:
    """Return a console on standard output; into a pipe or file lines are not folded."""
    return Console(file=sys.stdout, highlight=False, width=None if sys.stdout.isatty() else PIPE_WIDTH)


def columns(rows: Iterable[Sequence[str | Text]], indent: int = 0) -> Text:
    """Return rows as lines with aligned columns, two blanks between them and none at the end of a line."""
    table = [[cell if isinstance(cell, Text) else Text(cell) for cell in row] for row in rows]
    widths = [max(cell.cell_len for cell in column) for column in zip_longest(*table, fillvalue=Text())]
    lines = []
    for row in table:
        while row and not row[-1].plain:
            row.pop()
        line = Text(" " * indent)
        for number, cell in enumerate(row):
            line.append_text(cell)
            if number < len(row) - 1:
                line.append(" " * (widths[number] - cell.cell_len + 2))
        lines.append(line)
    return Text("\n").join(lines)


def word(text: str) -> Text:
    """Return an action, verdict or severity in its colour."""
    return Text(text, STYLES.get(text, ""))


def count(number: int, one: str, many: str = "") -> str:
    """Write a number with its noun: `1 list`, `2 lists`."""
    return f"{number} {one if number == 1 else many or one + 's'}"
