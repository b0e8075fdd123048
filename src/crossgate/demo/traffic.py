"""A made-up day of traffic at Ternhaven: a capture of the whole terminal, one at the sea, and a
table of the day's flows.

It is the same every time: the day is Wednesday 2026-11-25, times are UTC. Hardware addresses are
those for documentation (RFC 7042).
"""

from __future__ import annotations

import random
import struct
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from crossgate.demo.wire import hardware_of, hello, ip_packets, vlan_tag
from crossgate.formats.disk import writing

DAY, SEA, FLOWS = "day.pcap", "sea.pcap", "flows.parquet"
MIDNIGHT = 1_795_564_800
"""2026-11-25 00:00 UTC, in seconds since 1970."""

FIN, SYN, RST, PSH, ACK = 1, 2, 4, 8, 16
_TCP, _UDP, _ICMP, _ICMPV6, _FRAGMENT = 6, 17, 1, 58, 44

KIOSKS = ("10.64.9.21", "10.64.9.22", "10.64.9.23", "10.64.9.24")
KIOSKS_6 = ("2001:db8:64:8::21", "2001:db8:64:8::22")
GUESTS = tuple(f"10.64.41.{number}" for number in range(70, 90))
GUESTS_6 = ("2001:db8:64:28::77", "2001:db8:64:28::78")
MANIFEST, RESOLVER, DUTY = "10.64.20.10", "10.64.20.53", "10.64.20.40"
MANIFEST_6, RESOLVER_6 = "2001:db8:64:14::10", "2001:db8:64:14::53"
TIMETABLE, TIMETABLE_6 = "192.0.2.5", "2001:db8:64:c0::5"
WORLD = tuple(f"198.51.100.{number}" for number in range(60, 90))
WORLD_6 = ("2001:db8:beef::77", "2001:db8:beef::78")


class TimedFrame(NamedTuple):
    """A frame and the second of the day at which it is sent."""

    time: float
    octets: bytes


@dataclass
class _Flow:
    """One conversation as a flow exporter reports it: packets, octets and flags in each
    direction.
    """

    first: float
    last: float
    source: str
    destination: str
    protocol: int
    ports: tuple[int, int]
    packets: list[int] = field(default_factory=lambda: [0, 0])
    octets: list[int] = field(default_factory=lambda: [0, 0])
    flags: list[int] = field(default_factory=lambda: [0, 0])


class Day:
    """Makes the day's frames."""

    def __init__(self) -> None:
        self._random = random.Random(20_261_125)
        self.land: list[TimedFrame] = []
        self.sea: list[TimedFrame] = []
        self.flows: list[_Flow] = []
        self._identifier = 0
        self._hall()
        self._quay_side()
        self._guests()
        self._from_the_sea()

    # The day

    def _hall(self) -> None:
        """Add the hall: kiosks sell tickets, resolve names, and try what they should not."""
        draw = self._random
        for number in range(420):
            time = draw.uniform(6, 22) * 3600
            kiosk = draw.randrange(4)
            six = kiosk < 2 and number % 3 == 0
            source = KIOSKS_6[kiosk] if six else KIOSKS[kiosk]
            self._names(time, source, RESOLVER_6 if six else RESOLVER)
            self._tls(time + 0.2, source, MANIFEST_6 if six else MANIFEST, 8443, draw.randint(3, 8))
        for number in range(60):
            self._unanswered(
                draw.uniform(0, 24) * 3600, KIOSKS[number % 4], "198.51.100.80", 443
            )  # looking for updates
        for number in range(12):
            self._tcp(draw.uniform(8, 20) * 3600, KIOSKS[3], MANIFEST, 23, refused=True)
            self._ping(
                draw.uniform(8, 20) * 3600, KIOSKS[number % 2], "10.64.16.11", answered=False
            )

    def _quay_side(self) -> None:
        """Add the quay: gates move cranes, the office loads orders, the duty officer looks after
        both.
        """
        draw = self._random
        for berth, gate in ((1, "10.64.32.10"), (3, "10.64.34.10")):
            for hour in range(5, 23):
                for crane in (11, 12):
                    self._tcp(
                        hour * 3600 + draw.uniform(0, 3000),
                        gate,
                        f"10.64.16.{crane}",
                        502,
                        berth + draw.randint(4, 12),
                    )
        for hour in range(6, 20, 2):
            self._tcp(hour * 3600 + draw.uniform(0, 600), MANIFEST, "10.64.16.12", 4840, 10)
            self._tcp(hour * 3600 + 700, DUTY, "10.64.32.71", 554, 20)
            self._unanswered(hour * 3600 + 900, DUTY, "10.64.34.71", 554)
        for time in (14 * 3600, 15 * 3600 + 20, 23 * 3600):
            if time > 22 * 3600:
                self._tcp(time, DUTY, "10.64.16.11", 22, 30)
            else:
                self._unanswered(time, DUTY, "10.64.16.11", 22)
        self._tcp(9 * 3600, DUTY, "10.64.20.1", 22, 25)

    def _guests(self) -> None:
        """Add the guests: passengers look at web pages; one of them tries everything else."""
        draw = self._random
        for number in range(360):
            time, guest = draw.uniform(5, 23) * 3600, draw.choice(GUESTS)
            six = number % 4 == 0
            source = draw.choice(GUESTS_6) if six else guest
            self._names(time, source, RESOLVER_6 if six else RESOLVER)
            self._tls(
                time + 0.1, source, draw.choice(WORLD_6 if six else WORLD), 443, draw.randint(3, 12)
            )
        scan = 13 * 3600.0
        for port in range(1, 1025):
            self._tcp_packet(scan + port * 0.02, GUESTS[7], MANIFEST, (40_000 + port, port), SYN)
        for number in range(30):
            self._ping(
                draw.uniform(6, 22) * 3600,
                draw.choice(GUESTS),
                draw.choice(WORLD),
                answered=True,
                size=3_000 if number < 6 else 56,
            )

    def _from_the_sea(self) -> None:
        """Add what comes in from the internet: readers of the timetable, scans, and somebody with
        one of our addresses.
        """
        draw = self._random
        for number in range(150):
            six = number % 5 == 0
            source, target = (
                (draw.choice(WORLD_6), TIMETABLE_6) if six else (draw.choice(WORLD), TIMETABLE)
            )
            self._tls(draw.uniform(0, 24) * 3600, source, target, 443, draw.randint(2, 6), sea=True)
        for port in (21, 22, 23, 25, 80, 110, 139, 445, 1433, 3306, 3389, 5900, 8080, 8443):
            for last in range(1, 15):
                self._tcp_packet(
                    2.5 * 3600 + port * 0.01 + last,
                    "203.0.113.66",
                    f"192.0.2.{last}",
                    (55_555, port),
                    SYN,
                    sea=True,
                )
        for number in range(5):
            self._tcp_packet(3 * 3600 + number, DUTY, "10.64.20.10", (50_123, 443), SYN, sea=True)

    # Conversations

    def _flow(
        self, time: float, source: str, destination: str, protocol: int, ports: tuple[int, int]
    ) -> _Flow:
        flow = _Flow(time, time, source, destination, protocol, ports)
        self.flows.append(flow)
        return flow

    def _port(self) -> int:
        return self._random.randint(49_152, 65_535)

    def _tcp(
        self,
        time: float,
        source: str,
        destination: str,
        port: int,
        rounds: int = 3,
        refused: bool = False,
    ) -> None:
        self._connection(time, source, destination, port, [b""] * (2 * rounds), refused)

    def _tls(
        self, time: float, source: str, destination: str, port: int, rounds: int, sea: bool = False
    ) -> None:
        version = "1.2" if self._random.random() < 0.2 else "1.3"
        self._connection(
            time,
            source,
            destination,
            port,
            [hello(1, version), hello(2, version), *[b""] * (2 * rounds)],
            sea=sea,
        )

    def _connection(
        self,
        time: float,
        source: str,
        destination: str,
        port: int,
        said: list[bytes],
        refused: bool = False,
        sea: bool = False,
    ) -> None:
        """Add a TCP connection: the parts of `said` go there and back in turn; an empty one is some
        data.
        """
        ports = (self._port(), port)
        flow = self._flow(time, source, destination, _TCP, ports)
        steps: list[tuple[bool, int, bytes]] = [(False, SYN, b"")]
        if refused:
            steps.append((True, RST | ACK, b""))
        else:
            data = [
                (bool(turn % 2), PSH | ACK, text or bytes(self._random.randint(20, 300)))
                for turn, text in enumerate(said)
            ]
            steps += [
                (True, SYN | ACK, b""),
                (False, ACK, b""),
                *data,
                (False, FIN | ACK, b""),
                (True, FIN | ACK, b""),
                (False, ACK, b""),
            ]
        for back, flags, text in steps:
            ends, own = (
                ((destination, source), ports[::-1]) if back else ((source, destination), ports)
            )
            self._tcp_packet(time, *ends, own, flags, text, sea, flow, back)
            time += self._random.uniform(0.02, 0.4)

    def _unanswered(self, time: float, source: str, destination: str, port: int) -> None:
        ports = (self._port(), port)
        flow = self._flow(time, source, destination, _TCP, ports)
        for wait in (0, 1, 3):
            self._tcp_packet(time + wait, source, destination, ports, SYN, flow=flow)

    def _names(self, time: float, source: str, server: str) -> None:
        ports = (self._port(), 53)
        flow = self._flow(time, source, server, _UDP, ports)
        for back, size in ((False, 40), (True, 120)):
            ends, own = ((server, source), ports[::-1]) if back else ((source, server), ports)
            body = struct.pack(">HHHH", *own, size + 8, 0) + bytes(size)
            self._put(time + back * 0.01, *ends, _UDP, body, flow=flow, back=back)

    def _ping(
        self, time: float, source: str, destination: str, answered: bool, size: int = 56
    ) -> None:
        """Add an echo request and its reply, in fragments where it is large."""
        identifier = self._random.randrange(1, 65_536)
        flow = self._flow(time, source, destination, _ICMP, (0, 8 << 8))
        for back, kind in ((False, 8), (True, 0))[: 1 + answered]:
            ends = (destination, source) if back else (source, destination)
            self._put(
                time + back * 0.02,
                *ends,
                _ICMP,
                struct.pack(">BBHHH", kind, 0, 0, identifier, 1) + bytes(size),
                flow=flow,
                back=back,
            )

    # Packets

    def _tcp_packet(
        self,
        time: float,
        source: str,
        destination: str,
        ports: tuple[int, int],
        flags: int,
        said: bytes = b"",
        sea: bool = False,
        flow: _Flow | None = None,
        back: bool = False,
    ) -> None:
        flow = flow or self._flow(time, source, destination, _TCP, ports)
        flow.flags[back] |= flags
        header = struct.pack(
            ">HHIIBBHHH", *ports, self._random.getrandbits(32), 0, 5 << 4, flags, 64_000, 0, 0
        )
        self._put(time, source, destination, _TCP, header + said, sea, flow, back)

    def _put(
        self,
        time: float,
        source: str,
        destination: str,
        protocol: int,
        body: bytes,
        sea: bool = False,
        flow: _Flow | None = None,
        back: bool = False,
    ) -> None:
        if flow is not None:
            flow.packets[back] += 1
            flow.octets[back] += len(body) + 20
            flow.last = max(flow.last, time)
        self._identifier = (self._identifier + 1) % 65_536
        twice = not sea and self._random.random() < 0.03  # seen on both sides of a router
        for life in (64, 63)[: 1 + twice]:
            for packet in ip_packets(source, destination, protocol, body, self._identifier, life):
                kind = 0x86DD if ":" in source else 0x0800
                tag = (
                    b""
                    if sea
                    else struct.pack(">HH", 0x8100, vlan_tag(source if life == 64 else destination))
                )
                frame = (
                    hardware_of(destination)
                    + hardware_of(source)
                    + tag
                    + struct.pack(">H", kind)
                    + packet
                )
                (self.sea if sea else self.land).append(
                    TimedFrame(time + (64 - life) * 0.0004, frame)
                )


def write_captures(folder: Path, day: Day) -> None:
    """Write the two captures into a folder."""
    for name, frames in ((DAY, day.land), (SEA, day.sea)):
        with writing(folder / name, fresh=True) as beside, beside.open("wb") as target:
            target.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65_535, 1))
            for time, octets in sorted(frames, key=lambda each: each.time):
                moment = int((MIDNIGHT + time) * 1_000_000)
                target.write(
                    struct.pack("<IIII", *divmod(moment, 1_000_000), len(octets), len(octets))
                    + octets
                )


def write_flows(folder: Path, day: Day) -> None:
    """Write the day's flows as Parquet, with the names of IPFIX (RFC 7012, RFC 5103)."""
    import pyarrow
    from pyarrow import parquet

    flows = sorted(day.flows, key=lambda each: each.first)
    columns = {
        "flowStartMilliseconds": [int((MIDNIGHT + each.first) * 1_000) for each in flows],
        "flowEndMilliseconds": [int((MIDNIGHT + each.last) * 1_000) for each in flows],
        "sourceIPv4Address": [each.source if "." in each.source else None for each in flows],
        "sourceIPv6Address": [each.source if ":" in each.source else None for each in flows],
        "destinationIPv4Address": [
            each.destination if "." in each.source else None for each in flows
        ],
        "destinationIPv6Address": [
            each.destination if ":" in each.source else None for each in flows
        ],
        "protocolIdentifier": [each.protocol for each in flows],
        "sourceTransportPort": [each.ports[0] for each in flows],
        "destinationTransportPort": [each.ports[1] for each in flows],
        "tcpControlBits": [each.flags[0] for each in flows],
        "packetDeltaCount": [each.packets[0] for each in flows],
        "octetDeltaCount": [each.octets[0] for each in flows],
        "reversePacketDeltaCount": [each.packets[1] for each in flows],
        "reverseOctetDeltaCount": [each.octets[1] for each in flows],
        "reverseTcpControlBits": [each.flags[1] for each in flows],
    }
    with writing(folder / FLOWS, fresh=True) as beside:
        parquet.write_table(pyarrow.table(columns), str(beside))
