"""Exactly which conversations get from one set of addresses to another, and what stops the
others.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

from crossgate.core.answers.clients import ClientLines, from_clients, told
from crossgate.core.conversation.rules import Decided
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import Packet
from crossgate.core.model.progress import Tell
from crossgate.core.model.service import Service
from crossgate.core.network.address_classes import AddressClass, on_outside
from crossgate.core.network.endpoints import endpoint_set
from crossgate.core.sets.effort import TooManyPieces, answered
from crossgate.core.sets.minimise import SetLine
from crossgate.core.sets.region import every_packet, term_line
from crossgate.core.traffic.between import Flow, flows
from crossgate.core.traffic.courses import Opening, by_course
from crossgate.core.traffic.examples import example, unmentioned
from crossgate.core.traffic.flows import Flows
from crossgate.core.traffic.question import Answer, answers
from crossgate.core.traffic.session import Session


class ReachPart(NamedTuple):
    """Packets with the same fate, as lines: the verdict, the list that stopped them, whether on the
    way back, and an example packet.

    `clients` is the part of `lines` that comes from client ports, empty where nothing does. Where
    the lines would be too many, both are empty, and the part is the `rest`: all that is in no other
    part, of which only the example is known.
    """

    verdict: Verdict
    stop: Decided | None
    back: bool
    lines: list[SetLine]
    clients: list[SetLine]
    packet: Packet
    rest: bool = False

    def __repr__(self) -> str:
        return f"<Part {self.verdict} lines={len(self.lines)}>"


class _Fate(NamedTuple):
    """What becomes of packets: the verdict, the list that stopped them, and whether on the way
    back.
    """

    verdict: Verdict
    stop: Decided | None
    back: bool


class Reached(NamedTuple):
    """What becomes of everything between two sets of addresses in one family. `devices` says that
    at least one end is a device's own address; otherwise neither is.
    """

    family: Family
    devices: bool
    parts: list[ReachPart]

    def __repr__(self) -> str:
        who = "devices" if self.devices else "machines"
        return f"<Reached {self.family.label} {who} parts={len(self.parts)}>"


def reach(  # noqa: PLR0913
    session: Session,
    source: str,
    destination: str,
    when: When,
    service: str | None = None,
    strays: bool = False,
    tell: Tell | None = None,
    missed: list[TooManyPieces] | None = None,
) -> Iterator[Reached]:
    """Yield the fate of every conversation from one end to another, family by family, those of
    devices' own addresses separately.

    With `strays`, yield instead that of the packets that open no conversation: fragments, TCP
    segments that are no SYN, ICMP messages that nobody answers. `tell` is told how many flows are
    done, of how many. What falls into too many pieces is added to `missed`, and the rest is
    answered.

    Raises `PlanError` when an end is unknown, the two share no family or the service is none,
    `TooManyPieces` where there is no `missed`.
    """
    plan, network = session.plan, session.network
    asking = session.flows(plan.state_at(when))
    shared = False
    for family in Family:
        here, far = endpoint_set(plan, source, family), endpoint_set(plan, destination, family)
        if not (here.patterns and far.patterns):
            continue
        shared = True
        begun = _begun(family, None if service is None else plan.service(service, family), strays)
        every = session.address_classes(family)
        hidden = {devices: unmentioned(network, devices) for devices in (False, True)}
        senders, receivers = on_outside(every, here), on_outside(every, far)
        between = flows(
            network,
            senders,
            receivers,
            here.patterns,
            far.patterns,
            hidden.__getitem__,
            _numbers(session, family, senders),
        )
        for devices in (False, True):
            chosen = [
                flow
                for flow in between
                if (flow.source.device is not None or flow.destination.device is not None)
                is devices
            ]
            parts = _parts(asking, chosen, begun, tell, missed)
            if parts:
                yield Reached(family, devices, parts)
    if not shared:
        raise PlanError(
            f"{source} and {destination} share no address family, so nothing can be sent"
        )


def alike(one: Sequence[Reached], other: Sequence[Reached]) -> bool:
    """Whether two answers are the same, line for line, with the same lists."""

    def said(reached: Reached) -> tuple[object, ...]:
        parts = [
            (each.verdict, each.stop and each.stop.decider.key, each.back, each.lines)
            for each in reached.parts
        ]
        return reached.family, reached.devices, parts

    return list(map(said, one)) == list(map(said, other))


_MANY_SENDERS = 20
"""From so many address classes on, the graphs of all pairs at once cost less than those of each."""


def _numbers(
    session: Session, family: Family, senders: Sequence[AddressClass]
) -> Callable[[AddressClass, AddressClass], tuple[int, int]] | None:
    """Return a function that tells the graph numbers between two address classes, where there are
    many senders; otherwise None.
    """
    if len(senders) < _MANY_SENDERS:
        return None
    matrix = session.matrix(family)
    index = {each.pattern: number for number, each in enumerate(session.address_classes(family))}
    return lambda one, other: matrix.between(index[one.pattern], index[other.pattern])


def _parts(
    asking: Flows,
    between: Sequence[Flow],
    begun: Sequence[Opening],
    tell: Tell | None,
    missed: list[TooManyPieces] | None,
) -> list[ReachPart]:
    """Return the fates of what some flows open: first what gets through, last what lists deny by
    their otherwise line.
    """
    pieces: dict[_Fate, list[Answer]] = {}
    unasked = [] if missed is None else missed
    known = len(unasked)
    for done, flow in enumerate(between):
        if tell is not None:
            tell(done, len(between))
        with answered(flow.asked, missed):
            for answer in list(answers(asking, flow, begun)):
                stopped = answer.stopped
                back = stopped.stop is not None and stopped.leg.returns and not stopped.leg.settles
                pieces.setdefault(_Fate(answer.verdict, stopped.stop, back), []).append(answer)
    plan, parts, unwritten = asking.network.plan, list[ReachPart](), list[TooManyPieces]()
    stray = any(each.course.stray for each in begun)
    for fate, several in pieces.items():
        sets = [each.packets for each in several]
        written = ClientLines(
            [], [], sets if stray else from_clients(sets, plan.client_ports) or sets
        )
        with answered(
            (
                "the list of all that is "
                f"{fate.verdict}{f' by {fate.stop.decider.name}' if fate.stop else ''}"
            ),
            unwritten,
        ):
            written = told(several, plan.client_ports, stray)
        parts.append(
            ReachPart(*fate, written.lines, written.clients, example(plan, written.packets))
        )
    if len(unwritten) == 1 and len(unasked) == known:
        parts = [each if each.lines else each._replace(rest=True) for each in parts]
    elif unwritten and missed is None:
        raise unwritten[0]
    else:
        unasked += unwritten
    return sorted(
        parts,
        key=lambda part: (
            _ORDER.index(part.verdict),
            part.stop is not None and part.stop.decider.entry is None,
        ),
    )


_ORDER = (Verdict.PERMITTED, Verdict.VARIES, Verdict.HALF_OPEN, Verdict.UNROUTABLE, Verdict.DENIED)


def _begun(family: Family, service: Service | None, strays: bool) -> list[Opening]:
    """Return the opening packets of a service, with any DSCP value; or, for strays, the packets
    that open nothing.
    """
    every = every_packet(family)
    regions = [every] if service is None else [every._replace(what=term_line(service.terms))]
    return [each for each in by_course(regions) if each.course.stray is strays]
