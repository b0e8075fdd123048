"""How devices differ from the plan, for people."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

from crossgate.core.answers.drift import Drift
from crossgate.core.model.plan import Plan
from crossgate.live.proposal import Push
from crossgate.show.console import count, name, quiet, strong, word
from crossgate.show.sets import difference_lines


def lines(drifts: Sequence[Drift], at: datetime, every: bool = False) -> Iterator[str]:
    """Yield the state of each device, those that differ first, and a count."""
    order = sorted(drifts, key=lambda each: (not each.differs, not each.why))
    for each in order:
        if each.why:
            yield f"{word('error', shown='not asked')}  {each.why}"
        elif each.differs:
            yield f"{word('failed', shown='differs')}    {name(each.device)} runs otherwise:"
            for line in difference_lines(
                each.plan, each.found, every=every, rest="--all shows them"
            ):
                yield f"  {line}" if line else ""
        elif each.reworded:
            yield f"{word('held', shown='same')}       {name(each.device)}, in other words"
        else:
            yield f"{word('held', shown='same')}       {name(each.device)}"
    differing, unasked = (
        sum(each.differs for each in drifts),
        sum(bool(each.why) for each in drifts),
    )
    same = len(drifts) - differing - unasked
    left = f", {unasked} not asked" if unasked else ""
    yield ""
    told = strong(f"{same} of {count(len(drifts), 'device')}")
    yield f"{told} as the plan says for {at:%a %Y-%m-%d %H:%M}, {differing} otherwise{left}"
    yield from [quiet("was: the plan; is: what runs")] * bool(differing)


def push_lines(plan: Plan, proposal: Push, at: datetime) -> Iterator[str]:
    """Yield what a push would do, step by step, what holds throughout, and what prevents it."""
    if not proposal.steps:
        yield f"every device that was asked runs what the plan says for {at:%a %Y-%m-%d %H:%M}"
        return
    for number, (step, change) in enumerate(zip(proposal.steps, proposal.changes, strict=True), 1):
        first = ", first half: it denies also what it is to deny then" if step.half else ""
        yield f"{number}  {name(step.device)}{first}"
        if not change.found:
            yield quiet("   no packet with a true source address is treated otherwise")
        for line in (
            difference_lines(change.plan, change.found, rest="--json tells all")
            if change.found
            else ()
        ):
            yield f"   {line}" if line else ""
    yield from (f"cannot be said: {line}" for line in proposal.unsaid)
    for each in proposal.order.failing:
        yield f"{word('failed')} in the end: {each.expectation.text}: {each.why}"
    for each in proposal.order.lost:
        yield f"no longer holds: {each.expectation.text}: {each.why}"
    if proposal.order.broken:
        yield f"behind step {len(proposal.order.moves)} every next one breaks a claim:"
        for device, broken in proposal.order.broken:
            yield f"  {name(device)}: {broken.expectation.text}"
            yield f"    {broken.why}"
        return
    kept = count(proposal.order.claims, "claim")
    holds = "holds" if proposal.order.claims == 1 else "hold"
    yield f"{kept} that {holds} now and in the end {holds} after each step, proved"
