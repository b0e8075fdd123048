"""A small network with lists drawn for it: two routers in a row, a switch with a port, an outside,
both families.

a --- left --- mid --- right --- b
|                        |
hub.1 (pinned)           sea (outside)
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import product

from hypothesis import strategies as st

from crossgate.core.conversation.opening import Conversation
from crossgate.core.model.address import Address, Family, parse_address
from crossgate.core.model.packet import SYN, Packet
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.ways import Network

NETWORK = """
subnet a   10.0.0.0/29 2001:db8:a::/125
subnet b   10.0.1.0/29 2001:db8:b::/125
subnet mid 10.0.2.0/30 2001:db8:c::/126
outside sea
router left{left}
    interface a   10.0.0.1/29 2001:db8:a::1/125 on a at hub.2
    interface mid 10.0.2.1/30 2001:db8:c::1/126 on mid
router right{right}
    interface mid 10.0.2.2/30 2001:db8:c::2/126 on mid
    interface b   10.0.1.1/29 2001:db8:b::1/125 on b
    interface sea 203.0.113.1/30 2001:db8:ffff::1/126 on sea
switch hub
    port 1
    port 2
host pinned 10.0.0.2 2001:db8:a::2 on a at hub.1
host plain  10.0.0.3 2001:db8:a::3 on a
host server 10.0.1.2 2001:db8:b::2 on b
host far    198.51.100.9 2001:db8:9::9 on sea
group some  10.0.0.2-10.0.0.3, 10.0.1.2, 2001:db8:a::2, 2001:db8:b::2
window open mon 08:00-18:00
"""
WHERE = (
    "left.a",
    "left.mid",
    "right.mid",
    "right.b",
    "right.sea",
    "subnet a",
    "subnet b",
    "left itself",
    "right itself",
    "hub.1",
    "hub.2",
)
ADDRESSES = {
    Family.IPV4: (
        "10.0.0.1",
        "10.0.0.2",
        "10.0.0.3",
        "10.0.0.4",
        "10.0.1.1",
        "10.0.1.2",
        "10.0.1.3",
        "10.0.2.1",
        "198.51.100.9",
        "192.0.2.1",
    ),
    Family.IPV6: (
        "2001:db8:a::1",
        "2001:db8:a::2",
        "2001:db8:a::3",
        "2001:db8:a::4",
        "2001:db8:b::1",
        "2001:db8:b::2",
        "2001:db8:b::3",
        "2001:db8:c::1",
        "2001:db8:9::9",
        "2001:db8:5::1",
    ),
}
"""At least one address of every kind that the network or a list can tell apart."""


@st.composite
def entry_words(draw: st.DrawFn) -> str:
    """Draw an entry for a list of either family."""
    end = st.sampled_from(
        [
            *("any", "any", "a", "b", "pinned", "plain", "server", "some", "left", "right.b"),
            *("any but pinned, b", "plain, server", "a but some"),
        ]
    )
    service = draw(
        st.sampled_from(
            ["ip", "ip", "tcp", "tcp/80", "udp", "udp/80-90", "ping", "icmp", "gre", "tcp/40000-"]
        )
    )
    tail = ""
    if service.startswith("tcp") and draw(st.integers(0, 3)) == 0:
        tail = draw(st.sampled_from([" established", " source port 80", " flags SYN,!ACK"]))
    if draw(st.integers(0, 6)) == 0:
        tail += " during open"
    action = draw(st.sampled_from(["permit", "permit", "deny", "reject"]))
    if action == "permit" and draw(st.integers(0, 6)) == 0:
        tail += draw(
            st.sampled_from([" at most 2 a second", " at most 1 a minute from each source"])
        )
    return f"{action} {service} {draw(end)} to {draw(end)}{tail}"


@st.composite
def plans(draw: st.DrawFn, most: int = 4) -> str:
    """Draw a plan: the network with some lists at some places."""
    stateful = st.sampled_from(["", "", " stateful"])
    text = NETWORK.format(left=draw(stateful), right=draw(stateful))
    taken = set()
    for number in range(draw(st.integers(0, most))):
        family = draw(st.sampled_from(["ipv4", "ipv4", "ipv6"]))
        entries = draw(st.lists(entry_words(), max_size=4))
        text += f"list l{number} extended {family}\n" + "".join(
            f"    {entry}\n" for entry in entries
        )
        text += f"    otherwise {draw(st.sampled_from(['permit', 'permit', 'deny', 'reject']))}\n"
        place = (draw(st.sampled_from(["inbound", "outbound"])), draw(st.sampled_from(WHERE)))
        if (*place, family) not in taken:
            taken.add((*place, family))
            text += f"place l{number} {place[0]} on {place[1]}\n"
    if draw(st.integers(0, 3)) == 0:
        frames = draw(
            st.sampled_from(
                [
                    "deny ipv4 pinned to any",
                    "deny any any to pinned",
                    "permit ipv6 any to any during open",
                ]
            )
        )
        text = text.replace("on a at hub.1", "on a at hub.1 mac 00:00:5e:00:53:02")
        text += (
            f"list frames extended ethernet\n    {frames}\n    otherwise permit\nplace frames "
            f"{draw(st.sampled_from(['inbound', 'outbound']))} on hub.1\n"
        )
    return text


def openings(family: Family) -> Iterator[Packet]:
    """Yield opening packets between all addresses: one of every class that the lists drawn here can
    tell apart.
    """
    icmp = 1 if family is Family.IPV4 else 58
    for source, destination in product(
        (parse_address(text).value for text in ADDRESSES[family]), repeat=2
    ):
        if source == destination:
            continue
        for client, port in product((80, 50000), (80, 85, 7, 50000)):
            yield Packet(family, source, destination, 6, client, port, flags=SYN)
            yield Packet(family, source, destination, 17, client, port)
        yield Packet(
            family, source, destination, icmp, icmp_type=8 if icmp == 1 else 128, icmp_code=0
        )
        yield Packet(family, source, destination, icmp, icmp_type=3, icmp_code=1)
        yield Packet(family, source, destination, 47)


def conversation(network: Network, packet: Packet) -> Conversation:
    """Return the conversation that a packet opens, from where its source address really is."""
    source, destination = (
        at_address(network, Address(packet.family, value))
        for value in (packet.source, packet.destination)
    )
    return Conversation(source, destination, packet)


_LADDER = [
    "permit tcp any to any established",
    "deny tcp any to any established",
    "permit tcp/80 any to any",
    "deny icmp any to any",
    "reject udp any to any",
    "permit ip left to any",
    "deny ip any to left",
    "permit udp any to any",
]
_ASKING = [
    "permit tcp/80 any to any tls 1.2",
    "deny tcp/80 any to any tls 1.3",
    "permit tcp any to any tls 1.3",
    "permit tcp any to any tls 1.2,1.3",
]
_FLAGGED = [
    "permit tcp any to any flags syn,ack",
    "deny tcp any to any flags psh",
    "permit tcp any to any flags syn",
]


@st.composite
def ladders(draw: st.DrawFn, tls: bool = False) -> str:
    """Draw two or three pairs of routers in a row, some of them stateful, with a few lists at many
    places, there and back.

    With `tls` stateful ones have lists that ask what TLS is spoken, and others lists that ask for
    flags.
    """
    tiers = draw(st.integers(2, 2 if tls else 3))
    lines, stateful = ["subnet s0 10.0.0.0/24"], set[str]()
    for tier in range(tiers):
        lines.append(f"subnet s{tier + 1} 10.0.{tier + 1}.0/24")
        for side in "ab":
            name = f"{side}{tier}"
            stateful |= {name} if draw(st.integers(0, 2)) == 2 else set()
            lines += [f"router {name}{' stateful' * (name in stateful)}"]
            for way, subnet, last in (
                ("near", tier, 11 if side == "a" else 12),
                ("far", tier + 1, 1 if side == "a" else 2),
            ):
                lines.append(f"    interface {way} 10.0.{subnet}.{last}/24 on s{subnet}")
    lines += ["host left 10.0.0.99 on s0", f"host right 10.0.{tiers}.99 on s{tiers}"]
    own, asking = [*_LADDER, *(_FLAGGED if tls else [])], [*_LADDER, *_ASKING]
    points = [
        f"{side}{tier}.{way}" for tier in range(tiers) for side in "ab" for way in ("near", "far")
    ]
    places = st.tuples(st.sampled_from(points), st.sampled_from(["inbound", "outbound"]))
    names: dict[bool, list[str]] = {False: [], True: []}
    for asks in (False, True) if tls else (False,):
        for _ in range(draw(st.integers(1, 3 if tls else 4))):
            names[asks].append(f"l{len(names[False]) + len(names[True])}")
            entries = draw(st.lists(st.sampled_from(asking if asks else own), max_size=3))
            lines += [f"list {names[asks][-1]} extended ipv4", *(f"    {line}" for line in entries)]
            lines.append(f"    otherwise {draw(st.sampled_from(['permit', 'permit', 'deny']))}")
    for point, direction in draw(st.lists(places, min_size=2, max_size=10, unique=True)):
        kinds = [*names[False], *(names[True] if point.split(".")[0] in stateful else [])]
        lines.append(f"place {draw(st.sampled_from(kinds))} {direction} on {point}")
    return "\n".join(lines) + "\n"


BEHIND = """
subnet hall 10.0.0.0/24
subnet mid  192.0.2.0/29
outside net
router edge stateful
    interface a 10.0.0.1/24  on hall
    interface b 192.0.2.1/29 on mid
    translate hall leaving b as itself
router outer
    interface c   192.0.2.2/29   on mid
    interface sea 203.0.113.2/30 on net
host pc 10.0.0.9 on hall
"""
"""A network with a router behind the one that translates."""
