"""The hours and days of a replay, as text."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from crossgate.core.answers.replay import Replay
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.window import Period, periods
from crossgate.show.console import count, quiet, strong
from crossgate.show.width import columns

_BARS = " ▁▂▃▄▅▆▇█"
"""From nothing to the most of a row, in eight steps."""
_MOST_STRETCHES = 400


def stretches_lines(replay: Replay, top: int) -> Iterator[str]:
    """Yield the verdicts on what began in each hour or day, and when the busiest lines decided."""
    assert replay.by is not None  # sums are kept by it
    found = dict(sorted(replay.sums.stretches.items()))
    verdicts = [
        each for each in (*Verdict, None) if any(each in one.verdicts for one in found.values())
    ]
    how = "%a %Y-%m-%d %H:%M" if replay.by is Period.HOUR else "%a %Y-%m-%d"
    yield strong(f"by {replay.by}") + quiet(", conversations by when they began")
    rows = [["", *(str(each or "nowhere") for each in verdicts)]]
    for begins, stretch in found.items():
        sums = [stretch.verdicts.get(each) for each in verdicts]
        rows.append(
            [f"{begins:{how}}", *(f"{each.conversations:,}" if each else "-" for each in sums)]
        )
    yield from columns(_right(rows, range(1, len(verdicts) + 1)), indent=2)
    every = periods(found, replay.by, _MOST_STRETCHES)
    if len(every) > _MOST_STRETCHES:
        return
    totals: dict[tuple[int, int], int] = {}
    for stretch in found.values():
        for line, (_, packets) in stretch.lines.items():
            totals[line] = totals.get(line, 0) + packets
    most = sorted(totals, key=lambda line: (-totals[line], line))[: 2 * top]
    yield ""
    yield strong(f"lines by {replay.by}") + quiet(
        f", packets, from {every[0]:{how}} to {every[-1]:{how}}; a full bar is the most of a line"
    )
    rows = []
    for number, place in most:
        values = [
            found[each].lines.get((number, place), (0, 0))[1] if each in found else 0
            for each in every
        ]
        highest = max(values) or 1
        bars = "".join(_BARS[-(-each * (len(_BARS) - 1) // highest)] for each in values)
        rows.append(
            [replay.decider(number, place).name, f"{sum(values):,}", f"|{bars}|", f"{highest:,}"]
        )
    yield from columns(_right([["", "all", "", "most"], *rows], (1, 3)), indent=2)
    if len(totals) > len(most):
        yield quiet(f"  and {count(len(totals) - len(most), 'more line')}; --top shows more")


def _right(rows: Sequence[Sequence[str]], numbers: Iterable[int]) -> list[list[str]]:
    """Return rows with some columns aligned to the right, as for numbers."""
    widths = {column: max(len(row[column]) for row in rows) for column in numbers}
    return [[cell.rjust(widths.get(at, 0)) for at, cell in enumerate(row)] for row in rows]
