"""The order in which devices get their new configurations, so that nothing that must hold breaks in
between.

Theory of operation. A network in between is the plan in which each device has what it runs at that
point: its old lists or its new ones (`as_it_runs`). A claim that holds before and after all steps
must hold throughout, and a `keep` that holds in the end must hold from the step at which it first
does. Each network in between is proved, not sampled: of the devices after which all these claims
hold, the first in the plan is taken next. Where there is none, one of them gets the first half of
its step (`halves`), after which they hold, too.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from enum import IntEnum
from typing import NamedTuple

from crossgate.core.answers.drift import in_force
from crossgate.core.answers.outage import carriers
from crossgate.core.answers.verify import Verified, Verifier
from crossgate.core.model.network import Placement, Point
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.language.coming import Coming
from crossgate.language.reader import Reading
from crossgate.live.drift import with_what_runs


class Runs(IntEnum):
    """Which lists a device runs in a network in between."""

    BEFORE = 0
    HALF = 1
    AFTER = 2


class Move(NamedTuple):
    """A change of what a device runs, by its whole step or its last half; or by its first half."""

    device: str
    runs: Runs = Runs.AFTER


class Order(NamedTuple):
    """The devices' moves in order, how many claims hold throughout, the `keep` lines that do not
    hold in the end, and what else holds now and not then, which the plan does not want; or
    `broken`, the claim that each remaining device would break as the next one.
    """

    moves: tuple[Move, ...]
    claims: int
    failing: tuple[Verified, ...]
    lost: tuple[Verified, ...]
    broken: tuple[tuple[str, Verified], ...] = ()


def as_it_runs(reading: Reading, coming: Mapping[str, Coming], at: datetime) -> Plan:
    """Return the plan at a time in which some devices have what runs on them. Raises
    `PlanError`.
    """
    return in_force(with_what_runs(reading, coming), at)


def order(
    before: Plan,
    after: Plan,
    devices: Sequence[str],
    tell: Callable[[int, int], None] = lambda done, of: None,
    halves: Callable[[], Plan | None] = lambda: None,
) -> Order:
    """Return the order in which devices change from their lists in the plan `before` to those in
    the plan `after`.

    `halves` returns the plan in which they all run their first halves, None where there is none; it
    is called only where no order works without.
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
    plans, runs = {Runs.BEFORE: before, Runs.AFTER: after}, dict[str, Runs]()
    moves = list[Move]()

    def broken_by(move: Move) -> Verified | None:
        """Return a claim that a move would break; None for none, and what must hold is noted."""
        # Only this device's lists are others than a step before, so that no claim can turn whose
        # packets never come by it.
        own = {number for number, points in by.items() if _comes_by(points, move.device)}
        network = between(plans, runs | {move.device: move.runs})
        verifier = Verifier(Session(network, beside=sessions[1]))
        found = (verifier.verify(claims[number]) for number in sorted(must & own))
        failed = next((each for each in found if not each.held), None)
        if failed is None:
            must.update(n for n in (keeps - must) & own if verifier.verify(claims[n]).held)
        return failed

    left = list(devices)
    while left:
        tell(len(devices) - len(left), len(devices))
        broken = list[tuple[str, Verified]]()
        for device in left:
            # The end is proved already.
            failed = None if len(left) == 1 else broken_by(Move(device))
            if failed is None:
                left.remove(device)
                moves.append(Move(device))
                break
            broken.append((device, failed))
        else:
            if Runs.HALF not in plans:
                half = halves()
                if half is None:
                    return Order(tuple(moves), len(must), failing, lost, tuple(broken))
                plans[Runs.HALF] = half
            halved = (Move(each, Runs.HALF) for each in left if each not in runs)
            first = next((each for each in halved if broken_by(each) is None), None)
            if first is None:
                return Order(tuple(moves), len(must), failing, lost, tuple(broken))
            moves.append(first)
        runs[moves[-1].device] = moves[-1].runs
    return Order(tuple(moves), len(must), failing, lost)


def _comes_by(points: set[Point] | None, device: str) -> bool:
    """Whether the traffic of a claim may pass a device; None stands for any device."""
    return points is None or any(each.owner == device for each in points)


def between(plans: Mapping[Runs, Plan], runs: Mapping[str, Runs]) -> Plan:
    """Return the network between two steps as a plan: each device has the lists of the plan that
    `runs` gives for it, or of the plan before. Since lists of two plans may share a name, each is
    looked up by its plan's name and its own.
    """

    def placed(side: Runs, own: Sequence[Placement]) -> list[Placement]:
        return [
            each._replace(access_list=f"{side.name} {each.access_list}")
            for each in own
            if runs.get(each.point.device or "", Runs.BEFORE) is side
        ]

    return replace(
        plans[Runs.AFTER],
        lists={
            f"{s.name} {name}": each for s, own in plans.items() for name, each in own.lists.items()
        },
        frame_lists={
            f"{s.name} {name}": each
            for s, own in plans.items()
            for name, each in own.frame_lists.items()
        },
        placements=[each for side, own in plans.items() for each in placed(side, own.placements)],
        frame_placements=[
            each for side, own in plans.items() for each in placed(side, own.frame_placements)
        ],
    )


def _held(session: Session) -> list[Verified]:
    verifier = Verifier(session)
    return [verifier.verify(each) for each in session.plan.expectations]
