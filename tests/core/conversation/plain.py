"""What becomes of one packet's conversation on one way there and one way back, leg by leg, written
from docs/language.md alone.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.entry import Entry
from crossgate.core.model.network import PointKind
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.tls import Hello
from crossgate.core.network.paths import Crossing, Path
from crossgate.core.network.ways import Network

ANSWERED = {
    4: {8: 0, 13: 14, 15: 16, 17: 18, 42: 43},
    6: {128: 129, 139: 140, 144: 145, 146: 147, 160: 161},
}
ON_LINK = {4: {10: 9}, 6: {133: 134, 135: 136, 141: 142}}

BACK = ("SYN+ACK", "reply", "server hello")


class Way(NamedTuple):
    """One way of a conversation: paths, whether its ends are on one link, whether the answer goes
    astray, and what is the case.
    """

    there: Path
    back: Path
    on_link: bool = False
    astray: bool = False
    opened: frozenset[object] = frozenset()
    hello: Hello | None = None


class Fared(NamedTuple):
    """How it ended: the verdict, the leg on which it did, the line that stopped it and where; and
    all lines that decided.
    """

    verdict: Verdict
    leg: str
    stop: tuple[Crossing, Decider] | None
    deciders: list[Decider]


def fare(
    network: Network, first: Packet, way: Way, hellos: tuple[Hello | None, ...] = (None,)
) -> Fared:
    """Take a packet and what follows from it along a way; `hellos` are all that a conversation may
    settle on.
    """
    plan = network.plan
    both = devices(way.there) & devices(way.back)
    judging = [
        (at, own)
        for at, own in lists(network, way.there, first)
        if remembers(plan, at, both) and any(each.tls for each in own.entries)
    ]
    passed, decided, every = set[str](), list[Decider](), legs(first, way, bool(judging))
    for leg, packet in every:
        path = way.back if leg in BACK else way.there
        if leg in ("server hello", "data"):
            for at, own in judging[:: -1 if leg == "server hello" else 1]:
                decider = asked(own, first, way, way.hello)
                if not decider.permits:
                    return Fared(Verdict.HALF_OPEN, leg, (at, decider), [*decided, decider])
        for at, own in lists(network, path, packet):
            if not remembers(plan, at, passed):
                # What some entry takes is tried first, and no TLS last.
                known = (
                    each for each in hellos if any(judges(entry, each) for entry in own.entries)
                )
                deciders = [asked(own, packet, way, each) for each in (way.hello, *known, None)]
                decider = next((each for each in deciders if each.permits), deciders[0])
                decided.append(decider)
                if not decider.permits:
                    return Fared(
                        Verdict.DENIED if leg == every[0][0] else Verdict.HALF_OPEN,
                        leg,
                        (at, decider),
                        decided,
                    )
        if not path.arrived:
            return Fared(Verdict.UNROUTABLE, leg, None, decided)
        if path.on_link:
            return Fared(Verdict.PERMITTED, leg, None, decided)
        if leg in BACK and way.astray:
            return Fared(Verdict.HALF_OPEN, leg, None, decided)
        passed |= devices(path)
    return Fared(Verdict.PERMITTED, every[-1][0], None, decided)


def legs(first: Packet, way: Way, judged: bool) -> list[tuple[str, Packet]]:
    """Return the packets of a conversation in their order, each with its leg's name."""
    family = int(first.family)
    answer = first._replace(
        source=first.destination,
        destination=first.source,
        source_port=first.destination_port,
        destination_port=first.source_port,
    )
    if first.protocol == 6 and not first.fragment:
        settling = [("client hello", 24), ("server hello", 24)] if way.hello else [("data", 24)]
        steps = [("SYN", 2), ("SYN+ACK", 18), ("ACK", 16), *(settling if judged else [])]
        return [
            (leg, (answer if leg in BACK else first)._replace(flags=flags)) for leg, flags in steps
        ]
    if first.icmp_type is not None:
        kind = ANSWERED[family].get(
            first.icmp_type, ON_LINK[family].get(first.icmp_type) if way.on_link else None
        )
        answer = answer._replace(icmp_type=kind, icmp_code=0)
    alone = first.fragment or (first.icmp_type is not None and answer.icmp_type is None)
    return [("request", first), *([] if alone else [("reply", answer)])]


def lists(network: Network, path: Path, packet: Packet) -> list[tuple[Crossing, AccessList]]:
    """Return the lists of a packet's family on a path, with where they stand."""
    stand = ((each, network.list_at(each, packet.family)) for each in path.crossings)
    return [(each, own) for each, own in stand if own is not None]


def devices(path: Path) -> set[str]:
    """Return the devices on a path, those that only pass frames on too, and the hosts that have
    lists of their own.
    """
    points = [each.point for each in path.crossings]
    return {*path.devices, *(each.owner for each in points if each.kind is not PointKind.SUBNET)}


def remembers(plan: Plan, at: Crossing, seen: set[str]) -> bool:
    """Whether a list of packets stands at a stateful device or host among some."""
    name = at.point.owner
    known = at.rulings is None and at.point.kind is not PointKind.SUBNET
    return known and name in seen and (plan.devices.get(name) or plan.hosts[name]).stateful


def asked(own: AccessList, packet: Packet, way: Way, hello: Hello | None) -> Decider:
    """Return the first entry that takes a packet while a conversation speaks this TLS."""
    entries = (each for each in own.entries if not each.off and each.window in (None, *way.opened))
    return Decider(
        own, next((each for each in entries if each.matches(packet) and takes(each, hello)), None)
    )


def judges(entry: Entry, hello: Hello | None) -> bool:
    """Whether an entry asks for TLS, and for this one."""
    return hello is not None and entry.tls is not None and not entry.off and takes(entry, hello)


def takes(entry: Entry, hello: Hello | None) -> bool:
    """Whether an entry takes conversations that settle on this TLS, None for none."""
    wanted = entry.tls
    if wanted is None or hello is None:
        return wanted is None
    return (wanted.versions is None or hello.version in wanted.versions) and (
        wanted.suites is None or hello.suite in wanted.suites
    )
