"""Mends for people: each thing that is wrong, and its mends with their letters."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossgate.core.model.plan import Plan
from crossgate.language.mending import Mend, Mendable
from crossgate.show.console import alert, count, folded, quiet, strong, word


def mend_lines(plan: Plan, found: Sequence[Mendable]) -> Iterator[str]:
    """Yield everything that is wrong with its mends."""
    if not found:
        yield (
            "nothing is to be mended: every expectation holds, and no finding has an edit that "
            "ends it"
        )
        return
    for number, each in enumerate(found):
        if number:
            yield ""
        yield f"{strong(each.what)}  {quiet(f'line {plan.line_of(each.place)}')}"
        yield from folded(each.why, 4)
        for letter, mend in zip("abcdefgh", each.mends, strict=False):
            for index, step in enumerate(mend.said):
                lead = word("permit", bold=True, shown=f"  {letter}  ") if index == 0 else "     "
                yield lead + step
            yield quiet(f"     {effect(mend)}")
        if not each.mends:
            yield from folded(alert("no edit is found: ") + each.reason, 4)


def in_a_line(plan: Plan, found: Mendable) -> str:
    """Return on one line the first mend of something, or why there is none."""
    head = f"{quiet(f'{plan.line_of(found.place):>5}')}  {found.what}: "
    if not found.mends:
        return head + alert("no edit is found: ") + found.reason
    more = len(found.mends) - 1
    return (
        head
        + "; ".join(found.mends[0].said)
        + (quiet(f", or {more} other way{'s' * (more > 1)}") if more else "")
    )


def effect(mend: Mend) -> str:
    """Say what a mend does apart from its purpose."""
    impact = mend.proposal.impact
    if impact is None:
        return "no packet with a true source address is treated otherwise"
    told = [
        "no packet with a true source address is treated otherwise"
        if not impact.differences
        else (
            f"{count(len(mend.beside), 'kind')} of traffic between machines treated otherwise "
            "beside what is asked for"
        )
        if mend.beside
        else "nothing else between machines is treated otherwise"
    ]
    held = sum(each.now.held for each in impact.turned)
    if held:
        told.append(f"{held} {'expectation holds' if held == 1 else 'expectations hold'} then")
    if impact.findings:
        told.append(count(len(impact.findings), "new finding"))
    if impact.gone:
        told.append(f"{count(len(impact.gone), 'finding')} gone")
    return ", ".join(told)
