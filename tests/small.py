"""A small universe: every class of packets that lists made here can tell apart, one packet each.

Entries are drawn with addresses of the lowest two bits, few ports, few protocols and flags.
`packets` yields a packet of every class of these, so what holds for all of them holds for all
packets; hypothesis draws the lists.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator
from itertools import product
from pathlib import Path

from hypothesis import strategies as st

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family
from crossgate.core.model.packet import Packet
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.region import Region, Services
from crossgate.language.reader import read_plan

BASE = {Family.IPV4: 0x0A000000, Family.IPV6: 0x20010DB8 << 96}
OTHER = {Family.IPV4: 0xC6336401, Family.IPV6: (0x20010DB8 << 96) | (0xFFFF << 64)}
PORTS = (1, 22, 50)
"""One of each class that 22 and the ranges that begin or end with it make."""
FLAGS = [sum(chosen) for chosen in product((0, 2), (0, 4), (0, 16))]


def text(family: Family, low: int) -> str:
    """Write an address of the universe."""
    return str(ipaddress.ip_address((BASE[family] | low).to_bytes(family.bits // 8)))


def addresses(family: Family) -> list[int]:
    """Return one address of every class."""
    return [*(BASE[family] | low for low in range(4)), OTHER[family]]


def packets(family: Family, marked: bool = False) -> Iterator[Packet]:
    """Yield one packet of every class."""
    icmp = 1 if family is Family.IPV4 else 58
    for source, destination in product(addresses(family), repeat=2):
        for dscp in (0, 46) if marked else (0,):
            for client, port, flags in product(PORTS, PORTS, FLAGS):
                yield Packet(family, source, destination, 6, client, port, flags=flags, dscp=dscp)
            for client, port in product(PORTS, PORTS):
                yield Packet(family, source, destination, 17, client, port, dscp=dscp)
            for kind, code in product((3, 8, 128), (0, 1)):
                yield Packet(
                    family, source, destination, icmp, icmp_type=kind, icmp_code=code, dscp=dscp
                )
            yield Packet(family, source, destination, 47, dscp=dscp)
            for protocol in (6, 17, icmp, 47):
                yield Packet(family, source, destination, protocol, fragment=True, dscp=dscp)


def serves(services: Services, packet: Packet) -> bool:
    """Whether a packet is of some services; told field by field, without the sets' own
    arithmetic.
    """
    start, stop = packet.protocol << 17, (packet.protocol << 17) + 65536
    if packet.fragment:
        start, stop = stop, packet.protocol + 1 << 17
    elif packet.destination_port is not None:
        start += packet.destination_port
        stop = start + 1
    elif packet.icmp_type is not None:
        start += packet.icmp_type << 8 | (packet.icmp_code or 0)
        stop = start + 1
    carried = any(first < stop and start < last for first, last in services.what)
    client = packet.source_port is None or any(
        first <= packet.source_port < last for first, last in services.source_ports
    )
    flags = packet.flags is None or services.flags >> packet.flags & 1
    return bool(carried and client and flags and services.dscp >> packet.dscp & 1)


def has(end: AddressSet, address: int) -> bool:
    """Whether an address is in a set."""
    for each in end.patterns:
        if each.contains(address):
            return True
    return False


def holds(region: Region, packet: Packet) -> bool:
    """Whether a packet is in a region."""
    return (
        serves(region.services, packet)
        and has(region.source, packet.source)
        and has(region.destination, packet.destination)
    )


def held(regions: Iterable[Region], family: Family, marked: bool = False) -> list[bool]:
    """Return for each of `packets`, in their order, whether it is in any of some regions."""
    found = [False] * len(list(packets(family, marked)))
    first = next(packets(family, marked))
    kinds = [each for each in packets(family, marked) if _between(each) == _between(first)]
    for region in regions:
        ends = [
            [has(end, each) for each in addresses(family)]
            for end in (region.source, region.destination)
        ]
        served = [serves(region.services, each) for each in kinds]
        own = (here and there and kind for here, there, kind in product(*ends, served))
        found = [before or now for before, now in zip(found, own, strict=True)]
    return found


def _between(packet: Packet) -> tuple[int, int]:
    return packet.source, packet.destination


@st.composite
def address_words(draw: st.DrawFn, family: Family) -> str:
    """Draw the words of a source or destination."""
    form = draw(st.sampled_from(["any", "block", "block", "several", "but"]))
    if form == "any":
        return form
    if form == "but":
        return f"{text(family, 0)}/{family.bits - 2} but {text(family, draw(st.integers(0, 3)))}"
    words = draw(st.lists(block_words(family), min_size=1, max_size=1 if form == "block" else 2))
    return ", ".join(words)


@st.composite
def block_words(draw: st.DrawFn, family: Family) -> str:
    """Draw the words of one address, or of some that are written together."""
    low = draw(st.integers(0, 3))
    form = draw(st.sampled_from(["one", "prefix", "wild", "range"]))
    if form == "one":
        return text(family, low)
    if form == "prefix":
        return f"{text(family, low)}/{family.bits - draw(st.integers(0, 2))}"
    if form == "wild":
        return (
            f"{text(family, low)} wild "
            f"{ipaddress.ip_address(draw(st.integers(0, 3)).to_bytes(family.bits // 8))}"
        )
    return f"{text(family, low)}-{text(family, draw(st.integers(low, 3)))}"


@st.composite
def entry_words(draw: st.DrawFn, family: Family, marked: bool = False) -> str:
    """Draw an entry, without number."""
    ports = st.sampled_from(["22", "22-", "-22", "-21,23-"])
    service = draw(
        st.sampled_from(
            [
                "ip",
                "ip",
                "tcp",
                "udp",
                "tcp/P",
                "tcp/P",
                "udp/P",
                "icmp",
                "ping",
                "icmp/3",
                "icmp/3/1",
                "gre",
            ]
        )
    )
    service = service.replace("P", draw(ports))
    words = [draw(st.sampled_from(["permit", "permit", "deny", "reject"])), service]
    words += [draw(address_words(family)), "to", draw(address_words(family))]
    if service.startswith(("tcp", "udp")) and draw(st.integers(0, 4)) == 0:
        words.append(f"source port {draw(ports)}")
    if service.startswith("tcp") and draw(st.integers(0, 3)) == 0:
        words.append(draw(st.sampled_from(["established", "flags SYN,!ACK", "flags ACK"])))
    if draw(st.integers(0, 9)) == 0:
        words.append("fragments")
    if marked and draw(st.integers(0, 5)) == 0:
        words.append("dscp ef")
    return " ".join(words)


def list_text(name: str, family: Family, entries: list[str], otherwise: str = "deny") -> str:
    """Return a list of the plan language."""
    return "\n".join(
        [
            f"list {name} extended {family.word}",
            *(f"    {entry}" for entry in entries),
            f"    otherwise {otherwise}",
            "",
        ]
    )


def read_list(
    folder: Path, family: Family, entries: list[str], otherwise: str = "deny"
) -> AccessList:
    """Read a list of these entries."""
    path = folder / "small.gate"
    path.write_text(list_text("small", family, entries, otherwise))
    return read_plan(path).lists["small"]
