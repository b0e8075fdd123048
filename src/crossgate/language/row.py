"""What a row of the table of statements says (`syntax`)."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from crossgate.language.cells import Cells, one_cell
from crossgate.language.names import Names, Space


class Row(NamedTuple):
    """One statement of the language.

    `read` is called with the cursor at the statement's first word and the names that are known, and
    adds to their plan; the lines of a block are read with what their statement opened, too.
    `finish` is called once all statements of the kind have been read. `cells` takes the statement's
    words apart into the columns of the usual layout; lines that follow each other make a table
    where they have the same `table`, which is the keyword unless it says otherwise.
    """

    keyword: str
    read: Callable[..., object]
    cells: Cells = one_cell
    space: Space | None = None
    block: tuple[Row, ...] = ()
    commas: bool = False
    once: bool = False
    table: str = ""
    finish: Callable[[Names], None] | None = None
