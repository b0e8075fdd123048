"""Which claims no longer hold when a device, an interface or a cable is down.

Packets then take other paths, and meet other lists, or none. A claim is affected only where one of
the equally good paths of its traffic, there or back, passes the part that is down; all other claims
hold as before, and are not verified again.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from crossgate.core.answers.claim_sets import ClaimsAsSets
from crossgate.core.answers.verify import Verified, Verifier
from crossgate.core.model.address import Address, Family
from crossgate.core.model.claim import Promise
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.network import Point
from crossgate.core.model.plan import Plan
from crossgate.core.network.carriers import carriers_of
from crossgate.core.network.paths import Endpoint
from crossgate.core.sets.meaning import WordKind, meaning_of
from crossgate.core.traffic.session import Session

_MOST_PAIRS = 2_000
"""A claim about more pairs of address classes is looked at whatever is down."""


class DownPart(NamedTuple):
    """A part of the network that can fail: its name, and the points that carry nothing then."""

    name: str
    points: tuple[Point, ...]


class Outage(NamedTuple):
    """A part that is down, and the claims that hold without that but not with it."""

    part: DownPart
    broken: tuple[Verified, ...]

    def __repr__(self) -> str:
        return f"<Outage {self.part.name} broken={len(self.broken)}>"


def down_point(plan: Plan, word: str) -> Point:
    """Return the point of a device, an interface or a switch port. Raises `PlanError` for a word
    that is none of these.
    """
    meaning = meaning_of(plan, word)
    if meaning is not None and meaning.kind is WordKind.DEVICE:
        return plan.devices[word].itself
    if meaning is not None and meaning.kind in (WordKind.INTERFACE, WordKind.PORT):
        return plan.point(word)
    if meaning is None:
        raise PlanError(unknown("device", word, list(plan.devices)))
    raise PlanError(
        f"{word} is no device and no point of one; name a device, or a point as DEVICE.INTERFACE "
        "or SWITCH.PORT"
    )


def parts(plan: Plan) -> Iterator[DownPart]:
    """Yield each device, then each link between devices: a subnet of exactly two, an interface
    where there are more, a cable between switches.
    """
    for device in plan.devices.values():
        yield DownPart(device.name, (device.itself,))
    on: dict[str, list[Point]] = {}
    for interface in (
        each for device in plan.devices.values() for each in device.interfaces.values()
    ):
        if not plan.segments[interface.on].outside:
            on.setdefault(interface.on, []).append(interface.point)
    for segment, points in on.items():
        if len(points) == 2 and segment not in plan.with_machines:
            yield DownPart(" to ".join(map(str, points)), tuple(points))
        elif len({point.device for point in points}) > 1:
            yield from (DownPart(str(point), (point,)) for point in points)
    seen: set[frozenset[Point]] = set()
    for port in (each for device in plan.devices.values() for each in device.ports.values()):
        if port.to is not None and frozenset((port.point, port.to)) not in seen:
            seen.add(frozenset((port.point, port.to)))
            yield DownPart(f"{port.point} to {port.to}", (port.point, port.to))


def any_one_down(session: Session, results: Sequence[Verified]) -> Iterator[Outage]:
    """Yield what a failure of each part of the network breaks of the claims that hold in
    `results`.
    """
    outages = Outages(session, [each.expectation for each in results if each.held])
    return map(outages.of, parts(session.plan))


class Outages:
    """Finds which of some claims, all of which hold, do not while a part of the network is down."""

    def __init__(self, session: Session, held: Sequence[Promise]) -> None:
        self._session = session
        self._held = [(each, carriers(session, each)) for each in held]

    def of(self, part: DownPart) -> Outage:
        """Return the claims that do not hold with a part down.

        Claims that name it as an end are left out, since they would be about nothing.
        """
        session = self._session
        touched = [
            each
            for each, points in self._held
            if (points is None or not points.isdisjoint(part.points))
            and not _names(session.plan, each, part)
        ]
        if not touched:
            return Outage(part, ())
        verifier = Verifier(Session(session.plan.without(part.points), beside=session))
        results = [verifier.verify(each) for each in touched]
        return Outage(part, tuple(each for each in results if not each.held))


def carriers(session: Session, expectation: Promise) -> set[Point] | None:
    """Return all parts that the traffic of a claim passes on any path, there or back; None where
    that takes too long to find out.
    """
    pairs: dict[tuple[Endpoint, Address], None] = {}
    for family in Family:
        if expectation.over in (None, family):
            senders, receivers = ClaimsAsSets(session).classes(expectation, family)
            if len(senders) * len(receivers) > _MOST_PAIRS:
                return None
            for one in senders:
                for other in receivers:
                    pairs.update(
                        {(one.end, other.end.address): None, (other.end, one.end.address): None}
                    )
    return set().union(
        *(carriers_of(session.network, origin, destination) for origin, destination in pairs)
    )


def _names(plan: Plan, expectation: Promise, part: DownPart) -> bool:
    """Whether an end of a claim is the part that is down, or a point of it."""
    ends = (expectation.source, expectation.destination)
    own = {str(point) for point in part.points} | {
        point.owner for point in part.points if point == plan.devices[point.owner].itself
    }
    return any(end in own or end.partition(".")[0] in own for end in ends)
