"""A sheet of tests for people: for each machine what to run there, what is seen, and why; then what
no test shows; and the results from the site.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby

from crossgate.core.answers.sheet import NotShown, Sheet, SheetRow
from crossgate.core.answers.sheet.results import Agreement, Judged, SheetResult
from crossgate.core.answers.sheet.tests import SeenInTest
from crossgate.core.answers.sheet.words import (
    PATIENCE,
    SEEN,
    command_line,
    counters,
    note_of,
    plain_words,
    reason_text,
)
from crossgate.core.model.accesslist import line_name
from crossgate.core.model.plan import Plan
from crossgate.core.wording.sentences import asked_at
from crossgate.show.console import alert, count, folded, quiet, strong
from crossgate.show.width import columns

_MOST = 12
"""Of more lines that no test shows for one reason the first are named, unless all are wanted."""


def lines(plan: Plan, sheet: Sheet, every: bool) -> Iterator[str]:
    """Yield the tests, machine by machine, then what none of them shows."""
    yield _head(plan, sheet)
    yield from folded(
        quiet(
            f"silence: nothing comes for {PATIENCE} seconds. refused at once: a device says that it "
            "is prohibited; where nobody listens the machine itself refuses, and it got there all "
            "the same. A counter moves by so much at least."
        ),
        2,
    )
    for name, rows in groupby(sheet.rows, key=lambda row: row.tried.conversation.source.name):
        yield ""
        yield f"on {strong(name)}{quiet(_where(plan, name))}"
        yield from columns((each for row in rows for each in _row(row)), indent=2)
    yield from _not_shown(plan, sheet, every)


def _head(plan: Plan, sheet: Sheet) -> str:
    machines = {row.tried.conversation.source.name for row in sheet.rows}
    told = f"{strong(count(len(sheet.rows), 'test'))} at {count(len(machines), 'machine')}"
    if sheet.at_work:
        told += f", {count(len(sheet.at_work), 'line')} left out that the tally has at work"
    at = asked_at(plan, sheet.when)
    return f"{told}, as the plan is {at}" if at else told


def _where(plan: Plan, name: str) -> str:
    host = plan.hosts[name]
    if plan.segments[host.on].outside:
        return f"  on {host.on}, outside: ask somebody there"
    return f"  {', '.join(map(str, host.addresses))}"


def _row(row: SheetRow) -> Iterator[list[str]]:
    """Yield a test in words, with what is seen, which counters rise and why it is in the sheet;
    then its command line.
    """
    tried = row.tried
    why = [reason_text(each) for each in row.reasons if each.what not in ("shows", "counts")]
    note = note_of(tried) if tried.seen is SeenInTest.SILENCE else ""
    told = [_seen(tried.seen), ", ".join(counters(tried)), "; ".join([*why, *filter(None, [note])])]
    yield [str(row.number), plain_words(tried), *told]
    yield ["", quiet(command_line(tried))]


def _seen(seen: SeenInTest) -> str:
    return SEEN[seen] if seen is SeenInTest.ANSWERED else alert(SEEN[seen])


def _not_shown(plan: Plan, sheet: Sheet, every: bool) -> Iterator[str]:
    by_reason: dict[str, list[NotShown]] = {}
    for each in sheet.not_shown:
        by_reason.setdefault(each.reason, []).append(each)
    if by_reason:
        yield ""
        yield strong("no test shows")
    for reason, several in by_reason.items():
        names = [
            line_name(*each.line)
            if each.line
            else f"line {plan.line_of(each.claim.place) if each.claim else 0}"
            for each in several
        ]
        shown = names if every else names[:_MOST]
        more = [f"{len(names) - len(shown)} more"] if len(shown) < len(names) else []
        yield from folded(f"{', '.join([*shown, *more])}: {quiet(reason)}", 2)


def probed_lines(judged: Judged) -> Iterator[str]:
    """Yield the result of each test, beside what the plan says."""
    yield from columns(
        [
            str(each.row.number),
            command_line(each.row.tried),
            " and ".join(SEEN[seen] for seen in each.seen),
            ""
            if each.agreement is Agreement.AGREES
            else f"{alert(each.agreement)}; the plan says {SEEN[each.row.tried.seen]}",
        ]
        for each in judged.held
    )
    yield ""


def judged_lines(sheet: Sheet, judged: Judged) -> Iterator[str]:
    """Yield the results compared with the sheet: what differs first."""
    by_agreement = {
        kind: [each for each in judged.held if each.agreement is kind] for kind in Agreement
    }
    tried = len(judged.held) - len(by_agreement[Agreement.NOT_TRIED])
    yield (
        f"{strong(count(tried, 'test'))} of {len(judged.held)} tried: "
        f"{len(by_agreement[Agreement.AGREES])} as the plan says"
    )
    for kind, told in (
        (Agreement.DIFFERS, "differs from the plan"),
        (Agreement.CONTRADICTS, "was seen otherwise twice; try it again"),
        (Agreement.NOBODY_LISTENS, "gets there as the plan says, and nobody listens"),
    ):
        if by_agreement[kind]:
            yield ""
            yield f"{alert(told)}:"
            yield from columns((_held(each) for each in by_agreement[kind]), indent=2)
    left = by_agreement[Agreement.NOT_TRIED]
    if left:
        numbers = ", ".join(str(each.row.number) for each in left[:_MOST])
        more = f" and {len(left) - _MOST} more" if len(left) > _MOST else ""
        yield ""
        yield from folded(quiet(f"not tried: {numbers}{more}"), 2)


def _held(held: SheetResult) -> list[str]:
    tried = held.row.tried
    return [
        str(held.row.number),
        f"{tried.conversation.source.name}: {plain_words(tried)}",
        f"{' and '.join(SEEN[each] for each in held.seen)} instead of {SEEN[tried.seen]}",
        "; ".join(map(reason_text, held.row.reasons)),
    ]
