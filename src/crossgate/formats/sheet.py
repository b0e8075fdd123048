"""A sheet of tests as a table to take along (CSV, Markdown), and the filled-in table read back."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from types import MappingProxyType

from crossgate.core.answers.sheet import Sheet, SheetRow
from crossgate.core.answers.sheet.results import Result
from crossgate.core.answers.sheet.tests import SeenInTest
from crossgate.core.answers.sheet.words import (
    SEEN,
    command_line,
    counters,
    note_of,
    plain_words,
    reason_text,
)
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.wording.sentences import asked_at
from crossgate.formats.markdown import escaped
from crossgate.formats.tables import guarded, named_by, read_table, unguarded

_MOST_WRONG = 5
HEADERS = ("test", "machine", "what", "command", "expected", "counters", "why", "note", "seen")
"""The columns of the table; `seen` is for whoever does the tests."""
_FIELDS = named_by(
    (
        ("seen", ("seen", "result", "results", "verdict")),
        ("machine", ("machine", "host", "on")),
        ("command", ("command", "run")),
    )
)
_WORDS = {
    **dict.fromkeys(
        ("answered", "an answer", "answer", "yes", "ok", "works", "connected", "reply"),
        SeenInTest.ANSWERED,
    ),
    **dict.fromkeys(
        ("refused", "refused at once", "rejected", "prohibited", "no route to host", "unreachable"),
        SeenInTest.REFUSED,
    ),
    **dict.fromkeys(
        ("connection refused: nobody listens", "connection refused", "nobody listens", "closed"),
        SeenInTest.NOBODY_LISTENS,
    ),
    **dict.fromkeys(
        ("silence", "silent", "nothing", "no", "no answer", "timeout", "timed out", "times out"),
        SeenInTest.SILENCE,
    ),
}
"""What people write for what they saw."""


def seen_word(text: str) -> SeenInTest | None:
    """Return the standard word for what somebody saw; None for an unknown word."""
    return _WORDS.get(text.strip().lower())


def cells(row: SheetRow, seen: str = "") -> list[str]:
    """Return a row of the table; without `seen`, the cell for it is empty, to be filled in."""
    tried = row.tried
    return [
        str(row.number),
        tried.conversation.source.name,
        plain_words(tried),
        command_line(tried),
        SEEN[tried.seen],
        "; ".join(counters(tried)),
        "; ".join(map(reason_text, row.reasons)),
        note_of(tried),
        seen,
    ]


def sheet_csv(sheet: Sheet, seen: Mapping[int, SeenInTest] = MappingProxyType({})) -> str:
    """Return a sheet as comma-separated values (RFC 4180), with the results `seen` of its tests, by
    their numbers.
    """
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(HEADERS)
    for row in sheet.rows:
        told = SEEN[seen[row.number]] if row.number in seen else ""
        writer.writerow([guarded(each) for each in cells(row, told)])
    return text.getvalue()


def sheet_markdown(plan: Plan, sheet: Sheet) -> str:
    """Return a sheet as a table in Markdown, to print or to fill in."""
    return "\n".join(_markdown(plan, sheet)) + "\n"


def _markdown(plan: Plan, sheet: Sheet) -> Iterator[str]:
    yield f"## Tests of {escaped(plan.title or plan.files[0])}"
    yield ""
    at = asked_at(plan, sheet.when)
    lead = f"As it is {at}. " if at else ""
    yield f"{lead}Fill in what is seen: an answer, refused at once, connection refused, silence."
    yield ""
    yield f"| {' | '.join(HEADERS)} |"
    yield f"|{' --- |' * len(HEADERS)}"
    for row in sheet.rows:
        own = cells(row)
        own[3] = f"`{own[3]}`"
        yield f"| {' | '.join(each if each.startswith('`') else escaped(each) for each in own)} |"


def read_results(path: Path) -> list[Result]:
    """Read a filled-in table: any with the columns machine, command and seen.

    An empty cell in the last one is a test that was not made. Raises `PlanError` with every value
    that cannot be understood, each with its row.
    """
    table = read_table(
        path,
        lambda words, _: _FIELDS(words),
        ("machine", "command", "seen"),
        "machine,command,seen",
    )
    found, wrong = [], []
    for row in table.rows:
        told = unguarded(row.values.get("seen", "")).strip()
        seen = seen_word(told)
        where = f"{path.name} row {row.number}"
        if told and seen is None:
            wrong.append(f"{where}: {told!r} says nothing; write answered, refused or silence")
            continue
        machine, command = (
            unguarded(row.values.get(each, "")).strip() for each in ("machine", "command")
        )
        found.append(Result(where, machine, command, seen))
    if wrong:
        raise together(wrong)
    return found


def together(wrong: Sequence[str]) -> PlanError:
    """Return several problems as one error, with the first of many."""
    more = len(wrong) - _MOST_WRONG
    return PlanError("; ".join(wrong[:_MOST_WRONG]) + (f"; and {more} more" if more > 0 else ""))
