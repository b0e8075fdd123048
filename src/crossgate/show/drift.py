"""How what runs on devices differs from the plan, for people."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

from crossgate.core.answers.drift import Drift
from crossgate.show.console import count, name, quiet, strong, word
from crossgate.show.sets import difference_lines


def lines(drifts: Sequence[Drift], at: datetime, every: bool = False) -> Iterator[str]:
    """Yield what is so of each device, those that differ first, and a count."""
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
