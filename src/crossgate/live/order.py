"""In which order devices get what the plan says, so that nothing that must hold breaks in between.

Theory of operation. A network in between is the plan with each device as it runs by then: as it ran
before, or as it will (`as_it_runs`). A claim must hold throughout that holds before and after all
steps, and a `keep` that holds in the end must hold from the step on at which it first does. Each
network in between is proved, not sampled: the device is taken next that the plan has first, of
those after which all these claims hold.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from typing import NamedTuple

from crossgate.core.answers.drift import in_force
from crossgate.core.answers.outage import carriers
from crossgate.core.answers.verify import Verified, Verifier
from crossgate.core.model.network import Placement, Point
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.language.importing import Coming
from crossgate.language.reader import Reading
from crossgate.live.drift import with_what_runs


class Order(NamedTuple):
    """The devices in their order, how many claims hold throughout, the `keep` lines that do not
    hold in the end, and what else holds now and will not then, so that the plan does not want it;
    or `broken`, the claim that each device which is left would break as the next.
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
    return in_force(with_what_runs(reading, coming), at)


def order(
    before: Plan,
    after: Plan,
    devices: Sequence[str],
    tell: Callable[[int, int], None] = lambda done, of: None,
) -> Order:
    """Return in which order devices that run one thing are made to run another: their lists as a
    plan has them before, and as it has them after.
    """
    sessions = [Session(before), Session(after)]
    start, end = (_held(each) for each in sessions)
    must = {number for number, each in enumerate(end) if each.held and start[number].held}
    keeps = {number for number, each in enumerate(end) if each.held and each.expectation.keep}
    failing = tuple(each for each in end if each.expectation.keep and not each.held)
    lost = tuple(
        each
        for number, each in enumerate(end)
        if start[number].held and not each.held and not each.expectation.keep
    )
    claims = after.expectations
    by = {number: carriers(sessions[1], claims[number]) for number in must | keeps}
    left, done = list(devices), list[str]()
    while left:
        tell(len(done), len(devices))
        broken = list[tuple[str, Verified]]()
        for device in left:
            if len(left) == 1:
                break  # the end is proved already
            # Only this device's lists are others than a step before, so that no claim can turn
            # whose packets never come by it.
            own = {number for number, points in by.items() if _comes_by(points, device)}
            network = between(before, after, frozenset((*done, device)))
            verifier = Verifier(Session(network, beside=sessions[1]))
            found = (verifier.verify(claims[number]) for number in sorted(must & own))
            failed = next((each for each in found if not each.held), None)
            if failed is None:
                new = (keeps - must) & own
                must |= {each for each in new if verifier.verify(claims[each]).held}
                break
            broken.append((device, failed))
        else:
            return Order(tuple(done), len(must), failing, lost, tuple(broken))
        left.remove(device)
        done.append(device)
    return Order(tuple(done), len(must), failing, lost)


def _comes_by(points: set[Point] | None, device: str) -> bool:
    """Whether what a claim speaks of may come by a device; None is anywhere."""
    return points is None or any(each.owner == device for each in points)


def between(before: Plan, after: Plan, done: frozenset[str]) -> Plan:
    """Return a plan in which some devices have the lists that they have after, and the others those
    before; lists of one name are kept apart by what they are looked up by.
    """

    def placed(side: str, own: Sequence[Placement]) -> list[Placement]:
        return [
            each._replace(access_list=f"{side}{each.access_list}")
            for each in own
            if (each.point.device in done) == (side == _AFTER)
        ]

    sides = (_BEFORE, before), (_AFTER, after)
    return replace(
        after,
        lists={f"{side}{name}": each for side, own in sides for name, each in own.lists.items()},
        frame_lists={
            f"{side}{name}": each for side, own in sides for name, each in own.frame_lists.items()
        },
        placements=[each for side, own in sides for each in placed(side, own.placements)],
        frame_placements=[
            each for side, own in sides for each in placed(side, own.frame_placements)
        ],
    )


_BEFORE, _AFTER = "before ", "after "


def _held(session: Session) -> list[Verified]:
    verifier = Verifier(session)
    return [verifier.verify(each) for each in session.plan.expectations]
