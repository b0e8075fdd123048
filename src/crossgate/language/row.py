"""What a row of the table of statements contains (`syntax`).

A form says what may stand in a line behind its keyword: lower-case words stand for themselves,
words in capitals for a kind of word or for a part with a form of its own (both in `forms`). `( | )`
are alternatives, `[ ]` is optional, `*` and `+` are repetition.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from crossgate.core.model.named import NameSpace
from crossgate.language.cells import Cells, one_cell
from crossgate.language.names import Names


class Row(NamedTuple):
    """One statement of the language.

    Its `form` tells people and editors what may stand in the line. `read` is called with the cursor
    at the statement's first word and the known names, and adds to the plan; for a line in a block
    it also gets what the block's statement opened. `finish` is called once all statements of the
    kind have been read. `cells` divides the statement's words into the columns of the standard
    layout; consecutive lines with the same `table` make a table, which is named after the keyword
    unless given.
    """

    keyword: str
    form: str
    read: Callable[..., object]
    cells: Cells = one_cell
    space: NameSpace | None = None
    block: tuple[Row, ...] = ()
    commas: bool = False
    once: bool = False
    table: str = ""
    finish: Callable[[Names], None] | None = None
