"""First match of 1,000,000 packets: millions a second, and how long building takes.

The references, in the same run: the core's own first match packet by packet (`ListIndex`), and a
capture filter compiled by libpcap over the packets' octets. Packets are drawn to meet the lists at
all depths, a fifth of them anywhere.
"""

from __future__ import annotations

import sys
import tempfile
import time
from itertools import pairwise
from pathlib import Path

import numpy as np
import pcapy

sys.path.insert(0, str(Path(__file__).parent))
from crossgate.core.lists.bulk.first_match import FirstMatch
from crossgate.core.lists.index import ListIndex
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Addresses, Family
from crossgate.core.model.entry import Entry
from crossgate.core.model.packet import TCP, icmp_of
from crossgate.core.model.packets import Packets, Words, address_words
from crossgate.language.reader import read_plan
from synthetic import crowded, plan

PACKETS = 1_000_000
LOOPED = 20_000
FILTERED = 20_000
MOST_TERMS = 1_000
LISTS = (
    ("site prefixes", 1_000, False, 5.0, None),
    ("site prefixes", 10_000, False, 3.0, 1.0),
    ("site prefixes", 100_000, False, 1.5, 3.0),
    ("site prefixes, IPv6", 1_000, True, 2.5, None),
    ("site prefixes, IPv6", 10_000, True, 1.5, 1.0),
    ("site prefixes, IPv6", 100_000, True, 0.75, 3.0),
)
"""Name, entries, whether IPv6, at least so many millions a second, built in at most so many
seconds.
"""


def drawn(access_list: AccessList, count: int = PACKETS) -> Packets:
    """Draw packets that meet a list at all depths; a fifth have another one's addresses, half of
    these with other low bits.
    """
    rng = np.random.default_rng(5)
    family, entries = access_list.family, access_list.entries
    picked = rng.integers(0, len(entries), count)
    ends = [
        _inside(rng, [getattr(each, side) for each in entries], family, picked)
        for side in ("source", "destination")
    ]
    astray = np.flatnonzero(rng.random(count) < 0.2)
    for words in ends:
        words[:, astray] = words[:, rng.integers(0, count, len(astray))]
        words[-1, astray[::2]] ^= rng.integers(0, 1 << 16, len(astray[::2]), dtype=np.uint64)
    protocol, port = _carried(rng, entries, family, picked)
    flags = np.where(protocol == TCP, rng.choice([2, 16, 18, 24], count), 0)
    marks = rng.choice([0, 0, 0, 10, 46], count)
    clients = rng.integers(1_024, 65_536, count)
    octets = [each.astype(np.uint8) for each in (protocol, flags, marks)]
    ports = [each.astype(np.uint16) for each in (clients, port)]
    return Packets(
        family,
        ends[0],
        ends[1],
        octets[0],
        ports[0],
        ports[1],
        octets[1],
        rng.random(count) < 0.01,
        octets[2],
    )


def _inside(
    rng: np.random.Generator, sides: list[Addresses], family: Family, picked: np.ndarray
) -> Words:
    patterns = [pattern for each in sides for pattern in each.patterns]
    values, wildcards = (
        address_words(family, [each[part] for each in patterns]) for part in (1, 2)
    )
    counts = np.array([len(each.patterns) for each in sides])
    chosen = (np.cumsum(counts) - counts)[picked] + (
        rng.random(len(picked)) * counts[picked]
    ).astype(np.int64)
    bits = rng.integers(0, 1 << 64, (len(values), len(picked)), dtype=np.uint64)
    found: Words = values[:, chosen] | bits & wildcards[:, chosen]
    return found


def _carried(
    rng: np.random.Generator, entries: tuple[Entry, ...], family: Family, picked: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    rows = []
    for entry in entries:
        term = entry.service.terms[0]
        first, last = term.ports[0] if term.ports else (-1, -1)
        rows.append((-1 if term.protocol is None else term.protocol, first, last))
    protocol, first, last = np.array(rows)[picked].T
    count = len(picked)
    protocol = np.where(protocol < 0, rng.choice([6, 6, 17, icmp_of(family), 47], count), protocol)
    port = np.where(
        first < 0,
        rng.choice([22, 53, 80, 443, 8080, 33_000], count),
        first + (rng.random(count) * (last - first + 1)).astype(int),
    )
    return protocol, np.where(
        protocol == icmp_of(family), rng.choice([0, 3, 8, 128], count) << 8, port
    )


def looped(access_list: AccessList, packets: Packets) -> float:
    """Return how many packets a second the core's first match decides one by one."""
    index, each = (
        ListIndex(access_list, frozenset()),
        [packets.packet(row) for row in range(LOOPED)],
    )
    start = time.process_time()
    for packet in each:
        index.decide(packet)
    return LOOPED / (time.process_time() - start)


def filtered(access_list: AccessList, packets: Packets) -> float | None:
    """Return how many packets a second a compiled capture filter of the same addresses and
    protocols takes; None for long lists.
    """
    if len(access_list.entries) > MOST_TERMS:
        return None
    words = {Family.IPV4: ("ip", 4), Family.IPV6: ("ip6", 6)}[access_list.family]
    terms = []
    for entry in access_list.entries:
        source, destination = entry.source.patterns[0], entry.destination.patterns[0]
        term = entry.service.terms[0]
        asked = [words[0]] if term.protocol is None else [f"{words[0]} proto {term.protocol}"]
        asked += [
            f"dst portrange {first}-{last}"
            for first, last in term.ports or ()
            if term.protocol in (6, 17)
        ]
        asked += [
            f"{side} net {each}"
            for side, each in (("src", source), ("dst", destination))
            if each.is_prefix and str(each) != "any"
        ]
        terms.append("(" + " and ".join(asked) + ")")
    program = pcapy.compile(pcapy.DLT_RAW, 65_535, " or ".join(terms), 1, 0)
    octets = [_octets(packets, row) for row in range(FILTERED)]
    start = time.process_time()
    for each in octets:
        program.filter(each)
    return FILTERED / (time.process_time() - start)


def _octets(packets: Packets, row: int) -> bytes:
    """Return a packet as it would be captured, without a link header."""
    packet = packets.packet(row)
    length = packet.family.bits // 8
    ends = packet.source.to_bytes(length) + packet.destination.to_bytes(length)
    carried = (
        (packet.source_port or 0).to_bytes(2)
        + (packet.destination_port or 0).to_bytes(2)
        + bytes(16)
    )
    if packet.family is Family.IPV4:
        return (
            bytes([0x45, packet.dscp << 2, 0, 40, 0, 0, 0, 0, 64, packet.protocol, 0, 0])
            + ends
            + carried
        )
    return bytes([0x60, 0, 0, 0, 0, 20, packet.protocol, 64]) + ends + carried


def measured(name: str, access_list: AccessList, least: float, most: float | None) -> float:
    """Print the figures of one list, and return the time a packet takes."""
    packets = drawn(access_list)
    start = time.process_time()
    bulk = FirstMatch(access_list)
    built = time.process_time() - start
    bulk.decide(packets.take(slice(0, 100_000)))
    start = time.process_time()
    bulk.decide(packets)
    seconds = time.process_time() - start
    speed, plain, captured = (
        PACKETS / seconds,
        looped(access_list, packets),
        filtered(access_list, packets),
    )
    ratio = f"{speed / plain:.0f} times the loop" + (
        "" if captured is None else f", {speed / captured:.0f} times the capture filter"
    )
    build = f"built in {built:.2f} s" + ("" if most is None else f" (at most {most:g})")
    print(
        f"{name}, {len(access_list.entries):,} entries: {speed / 1e6:.1f} M packets/s (at least "
        f"{least:g}), {ratio}; {build}"
    )
    return seconds


def main() -> None:
    """Measure lists of prefixes of both families, then lists of hosts with large groups."""
    with tempfile.TemporaryDirectory() as temporary:
        path = Path(temporary, "big.gate")

        def read(text: str) -> AccessList:
            path.write_text(text)
            return read_plan(path).lists["big"]

        times = [
            measured(name, read(plan(count, six=six)), least, most)
            for name, count, six, least, most in LISTS
        ]
        for family, grown in (("IPv4", times[:3]), ("IPv6", times[3:])):
            print(
                f"{family}: ten times the entries, "
                f"{', '.join(f'{after / before:.1f}' for before, after in pairwise(grown))} times "
                "the time"
            )
        for six in (False, True):
            measured(
                f"hosts and groups, IPv{6 if six else 4}", read(crowded(six, 10_000)), 0.5, None
            )


if __name__ == "__main__":
    main()
