"""Possible causes, for people: the observations that the plan does not predict, and the faults that
explain them, the best first.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossgate.core.answers.cause import Cause, Explained
from crossgate.core.answers.cause.observed import Observed
from crossgate.core.answers.sheet.words import SEEN, command_line
from crossgate.show.console import alert, count, folded, quiet, strong
from crossgate.show.width import columns

_MOST = 6
"""Of more causes the first are shown, unless all are wanted."""


def lines(cause: Cause, every: bool) -> Iterator[str]:
    """Yield the unexpected observations, the causes, and the next test."""
    observed = cause.observed
    if not cause.wrong:
        yield f"all {count(len(observed), 'observation')} are as the plan says"
        return
    yield f"{len(cause.wrong)} of {count(len(observed), 'observation')} not as the plan says:"
    yield from (f"  {alert(str(each))}" for each in cause.wrong[:_MOST])
    if len(cause.wrong) > _MOST:
        yield quiet(f"  and {len(cause.wrong) - _MOST} more")
    yield ""
    if not cause.ranked:
        yield from folded(
            f"none of {count(cause.tried, 'fault')} that were tried explains any of it; see whether "
            "the plan is right, and whether the tests were made at the machine that they name",
            2,
        )
        return
    yield from _ranked(observed, cause.ranked, every)
    if cause.next is not None:
        tried, one, other, seen = cause.next
        yield ""
        yield from folded(
            f"to tell more, on {strong(tried.conversation.source.name)}: "
            f"{strong(command_line(tried))}; {SEEN[one]} if it is the first, {SEEN[seen]} if "
            f"{_faults(other)}",
            2,
        )


def _ranked(observed: Observed, ranked: Sequence[Explained], every: bool) -> Iterator[str]:
    best = ranked[0]
    if len(best.faults) > 1:
        yield "no single fault explains all of it; two together do:"
    elif best.not_explained:
        yield "no single fault explains all of it, and no two together:"
    shown = ranked if every else ranked[:_MOST]
    for each in shown:
        yield from columns([[f"{len(each.explained)} of {len(observed)}", _faults(each)]], indent=2)
        if each.not_explained and each is best:
            yield from (
                f"          {quiet(f'not explained: {other}')}" for other in each.not_explained[:3]
            )
    if len(shown) < len(ranked):
        yield quiet(f"  {count(len(ranked) - len(shown), 'more cause')}: --every shows all")


def _faults(explained: Explained) -> str:
    return "; and ".join(each.text for each in explained.faults)
