"""In which order devices get what the plan says, so that nothing that must hold breaks in between.

Theory of operation. A network in between is the plan with each device as it runs by then: as it ran
before, or as it will (`as_it_runs`). A claim must hold throughout that holds before and after all
steps, and a `keep` that holds in the end must hold from the step on at which it first does. Each
network in between is proved, not sampled: the device is taken next that the plan has first, of
those after which all these claims hold.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from copy import deepcopy
from datetime import datetime
from typing import NamedTuple

from crossgate.core.answers.drift import in_force
from crossgate.core.answers.verify import Verified, Verifier
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.language.draft import Draft
from crossgate.language.importing import Coming
from crossgate.language.reader import Reading
from crossgate.live.drift import call_apart, put_in


class Order(NamedTuple):
    """The devices in their order, how many claims hold throughout, the `keep` lines that do not hold
    in the end, and what else holds now and will not then, so that the plan does not want it; or
    `broken`, the claim that each device which is left would break as the next.
    """

    devices: tuple[str, ...]
    claims: int
    failing: tuple[Verified, ...]
    lost: tuple[Verified, ...]
    broken: tuple[tuple[str, Verified], ...] = ()


def as_it_runs(reading: Reading, coming: Mapping[str, Coming], at: datetime) -> Plan:
    """Return the plan as it is at a time where some devices run what comes from them. Raises
    `PlanError`.
    """
    draft = Draft(reading)
    for device, own in coming.items():
        mine = deepcopy(own)
        call_apart(reading.plan, mine, device)
        put_in(draft, mine, device)
    new = draft.result()
    return in_force(reading.changed(new).plan if new else reading.plan, at)


def order(
    reading: Reading,
    before: Mapping[str, Coming],
    after: Mapping[str, Coming],
    at: datetime,
    tell: Callable[[int, int], None] = lambda done, of: None,
) -> Order:
    """Return in which order devices that run one thing are made to run another. Raises `PlanError`
    where what runs on one cannot be put into the plan.
    """
    start, end = (_held(as_it_runs(reading, each, at)) for each in (before, after))
    must = {number for number, each in enumerate(end) if each.held and start[number].held}
    keeps = {number for number, each in enumerate(end) if each.held and each.expectation.keep}
    failing = tuple(each for each in end if each.expectation.keep and not each.held)
    lost = tuple(
        each
        for number, each in enumerate(end)
        if start[number].held and not each.held and not each.expectation.keep
    )
    claims, left, done = reading.plan.expectations, list(before), list[str]()
    while left:
        tell(len(done), len(before))
        broken = list[tuple[str, Verified]]()
        for device in left:
            if len(left) == 1:
                break  # the end is proved already
            changed = {*done, device}
            runs = {name: (after if name in changed else before)[name] for name in before}
            verifier = Verifier(Session(as_it_runs(reading, runs, at)))
            found = (verifier.verify(claims[number]) for number in sorted(must))
            failed = next((each for each in found if not each.held), None)
            if failed is None:
                must |= {each for each in keeps - must if verifier.verify(claims[each]).held}
                break
            broken.append((device, failed))
        else:
            return Order(tuple(done), len(must), failing, lost, tuple(broken))
        left.remove(device)
        done.append(device)
    return Order(tuple(done), len(must), failing, lost)


def _held(plan: Plan) -> list[Verified]:
    verifier = Verifier(Session(plan))
    return [verifier.verify(each) for each in plan.expectations]
