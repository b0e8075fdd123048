"""From text to a `Plan`: statements are read in the order in which they need each other, whatever
their order in the file.

`read_plan` returns a whole plan or raises `PlanErrors` with every error of every file, in the order
of their places.
"""

from __future__ import annotations

import gc
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from crossgate.core.model.debug import log
from crossgate.core.model.errors import Place, PlanError, PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.language import wiring
from crossgate.language.kept import Kept
from crossgate.language.lines import Line
from crossgate.language.names import FollowOn, Names
from crossgate.language.source import Source, Statement
from crossgate.language.syntax import STATEMENTS
from crossgate.language.words import Words


class Reading(NamedTuple):
    """A plan, the names by which further words are read against it, and the bytes of its files, by
    name.
    """

    plan: Plan
    names: Names
    data: dict[str, bytes]

    def changed(self, new: Mapping[str, bytes]) -> Reading:
        """Return the plan with other bytes in some of its files; unchanged entries are not read
        again, nor is what was the last to be read so. Raises `PlanErrors`.
        """
        data, kept = {**self.names.tables, **self.data, **new}, self.names.kept
        if kept.last is None or kept.last[0] != data:
            kept.last = data, read(Path(self.plan.files[0]), data, kept)
        found: Reading = kept.last[1]
        return found


def read_plan(path: Path) -> Plan:
    """Read a plan file and the files that it includes. Raises `PlanError` or, for errors in the
    files, `PlanErrors`.
    """
    return read(path).plan


def read(path: Path, data: Mapping[str, bytes] | None = None, kept: Kept | None = None) -> Reading:
    """Read a plan; `data` are bytes to use instead of those on disk, by file name, `kept` as in
    `attempt`. Raises as `read_plan` does.
    """
    reading, errors = attempt(path, data, kept)
    if errors:
        raise PlanErrors(errors)
    return reading


def attempt(
    path: Path, data: Mapping[str, bytes] | None = None, kept: Kept | None = None
) -> tuple[Reading, list[PlanError]]:
    """Read as much of a plan as possible, and return it with every error in it, in the order of
    their places.

    Entries that are `kept` from an earlier reading are not read again. Raises `PlanError` only
    where the plan's own file cannot be read.
    """
    with _collector_paused():
        source = Source(path, data)
        kept = kept or Kept()
        kept.look_around(_around(source))
        names = _understood(source, kept)
    plan = names.plan
    log(
        __name__,
        "read %s: statements %s, devices %s, lists %s, errors %s",
        ", ".join(source.files),
        len(source.statements),
        len(plan.devices),
        len(plan.every_list),
        len(source.errors) + len(names.errors),
    )
    errors = [error for error in (*source.errors, *names.errors) if not isinstance(error, FollowOn)]
    order = {file: index for index, file in enumerate(source.files)}
    errors = [
        error
        if error.place is not None and error.place.file in source.tables
        else _discreet(error, source.files[0])
        for error in errors
    ]
    errors.sort(
        key=lambda error: (
            (order.get(error.place.file, 0), error.place.line) if error.place else (0, 0)
        )
    )
    return Reading(names.plan, names, source.data), errors


def _discreet(error: PlanError, plan: str) -> PlanError:
    """Return an error without the text of a file whose name is not a plan's: an include may name
    any file.
    """
    if error.place is None or error.place.file in (plan, "") or error.place.file.endswith(".gate"):
        return error
    return PlanError(
        (
            "this line is no line of a plan; what it says is shown only of files whose name ends "
            "in "
            ".gate"
        ),
        place=error.place,
    )


def _around(source: Source) -> tuple[str, ...]:
    """Return the lines that decide what the words of entries mean, and the contents of tables."""
    tables = (f"table {file} {hash(data)}" for file, data in source.tables.items())
    return (
        *tables,
        *(
            line.text
            for statement in source.statements
            if statement.line.text.split(None, 1)[0] not in ("list", *_NO_NAMES)
            for line in (statement.line, *statement.block)
        ),
    )


def read_names(path: Path, list_name: str | None = None) -> Plan:
    """Read the names that a plan has: its network, sets and lists, of which only one has its
    entries; faulty lines are left out. Raises `PlanError` only where the plan's own file cannot be
    read.
    """
    with _collector_paused():
        source = Source(path)
        source.statements = [
            each._replace(block=[])
            if keyword == "list" and (words or [""])[0] != list_name
            else each
            for each in source.statements
            for keyword, *words in [each.line.text.split(None, 2)]
            if keyword not in _NO_NAMES
        ]
        return _understood(source, Kept()).plan


_NO_NAMES = ("expect", "keep", "accept", "place")
"""Statements that name nothing new."""


@contextmanager
def _collector_paused() -> Iterator[None]:
    """Pause the garbage collector while a large plan is read: none of its many objects is
    garbage.
    """
    running = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if running:
            gc.enable()


def _understood(source: Source, kept: Kept) -> Names:
    """Read the statements of a source, kind by kind in the order of the table, and collect
    errors.
    """
    plan = Plan(files=tuple(source.files), tables=tuple(source.tables))
    names = Names(plan, kept, source.tables)
    written: dict[str, list[Statement]] = {keyword: [] for keyword in STATEMENTS}
    for statement in source.statements:
        with names.gathering():
            _sort_in(statement, names, written)
    for row in STATEMENTS.values():
        for statement in written[row.keyword]:
            with names.gathering():
                words = Words(statement.line, row.commas, statement.block)
                first = written[row.keyword][0].line
                if row.once and statement.line is not first:
                    raise words.error(
                        f"{row.keyword} stands in line {first.number} already; a plan has one",
                        index=0,
                    )
                row.read(words, names)
        if row.finish is not None:
            row.finish(names)
    plan.expectations.sort(key=lambda each: (plan.files.index(each.place.file), each.place.line))
    names.errors += wiring.check(
        plan, lambda place, word, message: _complaint(names.lines[place], word, message)
    )
    return names


def _sort_in(statement: Statement, names: Names, written: dict[str, list[Statement]]) -> None:
    """Put a statement with others of its kind, and note the name that it declares; one whose name
    is taken is left out.
    """
    words = Words(statement.line)
    names.lines[words.place] = statement.line
    keyword = words.take("a statement")
    row = STATEMENTS.get(keyword)
    if row is None:
        from crossgate.language.other_words import unknown_statement

        raise unknown_statement(words, keyword, STATEMENTS)
    if statement.block and not row.block:
        first = Words(statement.block[0])
        span = (0, len(statement.block[0].text.strip()))
        names.errors.append(
            first.error(f"this line is indented, but {keyword} opens no block", index=0, span=span)
        )
    if row.space is not None and words.peek():
        names.declare(words, row.space, keyword)
    written[keyword].append(statement)


def _complaint(line: Line, word: str, message: str) -> PlanError:
    """Return an error at a word of a line that was read before."""
    column = line.text.find(word)
    place = Place(line.file, line.number)
    return PlanError(
        message,
        place=place,
        source=line.text,
        column=max(column, 0) + 1,
        width=len(word) if column >= 0 else len(line.text),
    )
