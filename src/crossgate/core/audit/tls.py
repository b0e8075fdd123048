"""Findings about entries that ask for the TLS version of a conversation."""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.audit.traffic import begun_by
from crossgate.core.conversation.rules import judges
from crossgate.core.model.accesslist import AccessList, Decider, line_name
from crossgate.core.model.entry import Entry
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.packet import TCP, UDP
from crossgate.core.network.ways import Ways
from crossgate.core.sets import spans as line
from crossgate.core.sets.effort import answered
from crossgate.core.sets.region import ALL_FLAGS, PROTOCOL_SHIFT, Region, entry_region
from crossgate.core.traffic.between import Flow
from crossgate.core.traffic.courses import Opening
from crossgate.core.traffic.examples import example
from crossgate.core.traffic.flows import placed_on
from crossgate.core.traffic.question import Answer, answers
from crossgate.core.wording.sentences import decided_by, packet_text

_QUIC = 443
"""The port of HTTP/3, which runs over QUIC in UDP and has TLS 1.3 inside (RFC 9114 section 3.1, RFC
9001).
"""


@finds("never-settled")
def never_settled(case: Case) -> Iterator[Finding]:
    """Yield the entries with `tls` of which no conversation gets as far as the server's hello at
    their device.
    """
    for access_list, entries in case.traffic() if case.plan.asks_for_tls else ():
        senders = case.machines.senders(access_list) if access_list.tls else {}
        classes = case.session.address_classes(access_list.family)
        for entry in entries if senders else ():
            if entry.tls is None or not case.sent(access_list, entry):
                continue
            own = [
                index for index in classes.overlapping(entry.source.patterns) if index in senders
            ]
            begun = begun_by(case, access_list, entry)
            with answered(
                f"whether {line_name(access_list.name, entry.number)} learns what TLS is spoken",
                case.missed,
            ):
                flows = [
                    flow
                    for one, others in case.machines.across(access_list, entry, senders, own)
                    for flow in case.machines.flows_to(access_list.family, one, others)
                ]
                if (
                    begun
                    and flows
                    and not any(_settles(case, access_list, entry, begun, flow) for flow in flows)
                ):
                    yield _unsettled(case, access_list, entry, begun, flows)


def _settles(
    case: Case, access_list: AccessList, entry: Entry, begun: list[Opening], flow: Flow
) -> bool:
    """Whether some conversation of a flow that an entry takes shows its TLS version to the device
    where the list stands.
    """
    return any(
        ending.leg.settles and access_list in ending.judges
        for answer in _answers(case, access_list, entry, begun, flow)
        for ending in answer.endings
    )


def _judges(case: Case, access_list: AccessList, ways: Ways) -> bool:
    """Whether a list stands on some of the ways there whose answers may come through as well."""
    stand = placed_on(case.network, ways.there, access_list.family)
    return any(
        each.access_list is access_list
        and judges(each.crossing, ways.there.devices, ways.back.devices)
        for each in stand
    )


def _answers(
    case: Case, access_list: AccessList, entry: Entry, begun: list[Opening], flow: Flow
) -> Iterator[Answer]:
    for opened in case.states(access_list):
        if entry.in_force(opened):
            yield from answers(case.asking(opened), flow, begun)


def _unsettled(
    case: Case, access_list: AccessList, entry: Entry, begun: list[Opening], flows: list[Flow]
) -> Finding:
    """Say why an entry never learns the TLS version."""
    taken = [flow for flow in flows if any(each.meets(flow.region) for _, each in begun)]
    seen = [flow for flow in taken if any(_judges(case, access_list, ways) for ways in flow.every)]
    if not seen:
        devices = dict.fromkeys(
            str(point.device)
            for point, _ in case.plan.places_of(access_list)
            if point.device is not None
        )
        fault = Fault(
            f"the answers to what it takes do not come through {' or '.join(devices)}, which so "
            "never learns what TLS is spoken: "
            "all that it may take passes",
            "let the way back lead through there, or place the list where both ways meet",
        )
        return Finding("never-settled", entry.place, access_list.name, entry.number, fault)
    every = (each for flow in seen for each in _answers(case, access_list, entry, begun, flow))
    answer, ending = next(
        ((each, ending) for each in every for ending in each.endings if ending.stop is not None),
        (None, None),
    )
    fault = Fault(
        "nothing that it takes gets as far as the server's hello",
        "see that there is a way there and back",
    )
    if answer is None or ending is None or ending.stop is None:
        return Finding("never-settled", entry.place, access_list.name, entry.number, fault)
    packet = example(case.plan, [answer.packets])
    what = f"the {ending.leg}" if ending.leg.returns else "it"
    told = (
        f"{fault.what}: of {packet_text(packet)}, "
        f"{decided_by(ending.stop.decider, ending.stop.crossing, what)}"
    )
    return Finding(
        "never-settled",
        entry.place,
        access_list.name,
        entry.number,
        Fault(told, "permit it there"),
        packet=packet,
    )


@finds("quic-unseen")
def quic_unseen(case: Case) -> Iterator[Finding]:
    """Yield the entries with `tls` whose list permits QUIC to the same place: QUIC carries TLS
    inside UDP, where no entry sees it (RFC 9001 section 4).
    """
    for access_list in case.placed():
        told: set[Decider] = set()
        for entry in case.scope.entries(access_list) if access_list.tls else ():
            region = None if entry.tls is None else _quic(access_list, entry)
            if region is None:
                continue
            with answered(
                f"whether QUIC goes by beside {line_name(access_list.name, entry.number)}",
                case.missed,
            ):
                found = (
                    (packets, decider)
                    for opened in case.states(access_list)
                    if entry.in_force(opened)
                    for packets, decider in case.session.regions.of(access_list, opened).split(
                        region, permitted=True
                    )
                    if decider not in told
                )
                packets, decider = next(found, (None, None))
                if packets is not None and decider is not None:
                    told.add(decider)
                    where = "the otherwise line" if decider.entry is None else str(decider.number)
                    fault = Fault(
                        f"{where} lets udp/{_QUIC} by, and with QUIC goes round this entry",
                        f"deny udp/{_QUIC} first",
                    )
                    because = () if decider.number is None else (decider.number,)
                    yield Finding(
                        "quic-unseen",
                        entry.place,
                        access_list.name,
                        entry.number,
                        fault,
                        because,
                        example(case.plan, [packets]),
                    )


def _quic(access_list: AccessList, entry: Entry) -> Region | None:
    """Return the packets to the UDP port of QUIC between the ends of an entry; None where the entry
    does not ask for that port of TCP.
    """
    region = entry_region(entry, access_list.family)
    if region is None or not line.contains(region.what, (TCP << PROTOCOL_SHIFT) + _QUIC):
        return None
    port = (UDP << PROTOCOL_SHIFT) + _QUIC
    return region._replace(what=((port, port + 1),), flags=ALL_FLAGS)
