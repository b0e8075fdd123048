"""A capture and a table of flows replayed, whole process but for the start: packets and rows a
second.

A conversation crosses ten lists of 1,000 entries that let it by. The reference for the capture is a
loop over libpcap's packets one by one that decodes nothing; for the table, pyarrow reading it.
"""

from __future__ import annotations

import random
import struct
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pcapy
import pyarrow
from pyarrow import parquet

sys.path.insert(0, str(Path(__file__).parent))
from crossgate.core.answers.replay import Replay
from crossgate.core.network.ways import Network
from crossgate.formats.readers.traffic import Traffic
from crossgate.language.reader import read_plan
from synthetic import entries

PACKETS = 2_000_000
ROWS = 4_000_000
RUNS = 3
"""Of so many runs the best counts: neighbours on a machine only ever make it slower."""
LISTS = 10
CLIENTS, SERVERS = 20_000, 200


def chain() -> str:
    """Return a plan of five routers in a row between two subnets, with a list of 1,000 entries at
    each of their ten interfaces.
    """
    lines = [
        "subnet left 172.16.0.0/16",
        "subnet right 172.17.0.0/16",
        *(f"subnet m{number} 192.0.2.{4 * number}/30" for number in range(4)),
    ]
    on = ["left", "m0", "m1", "m2", "m3", "right"]
    for number in range(5):
        own = "172.16.0.1/16" if number == 0 else f"192.0.2.{4 * number - 2}/30"
        other = "172.17.0.1/16" if number == 4 else f"192.0.2.{4 * number + 1}/30"
        lines += [
            f"router r{number}",
            f"    interface a {own} on {on[number]}",
            f"    interface b {other} on {on[number + 1]}",
        ]
    for number in range(LISTS):
        # None of these entries is for the two subnets, but for the last.
        lines += [
            f"list l{number} extended ipv4",
            *entries(999, number + 1),
            "    10000 permit ip 172.16.0.0/12 to 172.16.0.0/12",
        ]
        lines.append(
            f"place l{number} {'inbound' if number % 2 == 0 else 'outbound'} on "
            f"r{number // 2}.{'ab'[number % 2]}"
        )
    return "\n".join([*lines, ""])


def write_capture(path: Path) -> None:
    """Write packets of TCP conversations, ten each, interleaved."""
    rng = random.Random(1)
    octets = [struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65_535, 1)]
    for number in range(PACKETS):
        conversation, step = number // 1_000 * 100 + number % 100, number // 100 % 10
        client, server = (
            bytes([172, 16, conversation >> 8 & 127, conversation & 255 | 2]),
            bytes([172, 17, 1, 2 + conversation % 200]),
        )
        ends, ports = (
            (server + client, (443, 50_000 + conversation % 9_999))
            if step % 2
            else (client + server, (50_000 + conversation % 9_999, 443))
        )
        flags = (2, 18)[step] if step < 2 else 24
        packet = struct.pack(">BBHHHBBH", 0x45, 0, 60, number & 65_535, 0, 64, 6, 0) + ends
        packet += struct.pack(
            ">HHIIBBHHH", *ports, rng.getrandbits(32), 0, 0x50, flags, 1000, 0, 0
        ) + bytes(20)
        octets.append(
            struct.pack(
                "<IIII",
                1_700_000_000 + number // 10_000,
                number % 10_000 * 100,
                14 + len(packet),
                14 + len(packet),
            )
        )
        octets.append(bytes(12) + b"\x08\x00" + packet)
    path.write_bytes(b"".join(octets))


def write_table(path: Path) -> None:
    """Write records of flows, one way each, in the order of their times."""
    rng = np.random.default_rng(2)
    clients = [f"172.16.{number >> 8}.{number & 255}" for number in range(2, CLIENTS + 2)]
    servers = [f"172.17.1.{number + 2}" for number in range(SERVERS)]
    start = 1_700_000_000_000 + np.arange(ROWS) // 2
    columns = {
        "sourceIPv4Address": pyarrow.array(clients).take(
            pyarrow.array(rng.integers(0, CLIENTS, ROWS))
        ),
        "destinationIPv4Address": pyarrow.array(servers).take(
            pyarrow.array(rng.integers(0, SERVERS, ROWS))
        ),
        "protocolIdentifier": np.full(ROWS, 6, np.uint8),
        "sourceTransportPort": rng.integers(49_152, 65_536, ROWS).astype(np.uint16),
        "destinationTransportPort": rng.choice([80, 443, 8443], ROWS).astype(np.uint16),
        "packetDeltaCount": rng.integers(1, 100, ROWS),
        "octetDeltaCount": rng.integers(60, 10_000, ROWS),
        "flowStartMilliseconds": start,
        "flowEndMilliseconds": start + 10,
    }
    parquet.write_table(pyarrow.table(columns), str(path), row_group_size=1 << 18)


def replayed(plan: Path, path: Path) -> tuple[float, int]:
    """Return the process time of a replay, and how many conversations there are."""
    read = read_plan(plan)
    traffic = Traffic([path], {}, 0)
    start = time.process_time()
    replay = Replay(Network(read))
    for seen, flows in traffic.batches():
        for family, each in seen.items():
            for _ in replay.add(family, each, read.client_ports if flows else None):
                pass
    for _ in replay.rest():
        pass
    return time.process_time() - start, sum(
        each.conversations for each in replay.sums.verdicts.values()
    )


def looped(path: Path) -> float:
    """Return the process time of a loop over a capture's packets that decodes nothing."""
    reader = pcapy.open_offline(str(path))
    start = time.process_time()
    while reader.next()[0] is not None:
        pass
    return time.process_time() - start


def main() -> None:
    """Measure both."""
    with tempfile.TemporaryDirectory() as temporary:
        plan, capture, table = (
            Path(temporary, name) for name in ("chain.gate", "big.pcap", "big.parquet")
        )
        plan.write_text(chain())
        write_capture(capture)
        seconds, conversations = min(replayed(plan, capture) for _ in range(RUNS))
        plain = min(looped(capture) for _ in range(RUNS))
        print(
            f"a capture of {PACKETS:,} packets, {conversations:,} conversations: "
            f"{PACKETS / seconds / 1e6:.2f} M packets/s,"
            f" {plain / seconds:.2f} of a loop that decodes nothing (at least 0.5)"
        )
        write_table(table)
        seconds, conversations = min(replayed(plan, table) for _ in range(RUNS))
        start = time.process_time()
        parquet.read_table(str(table))
        plain = time.process_time() - start
        print(
            f"a table of {ROWS:,} flows, {conversations:,} conversations: "
            f"{ROWS / seconds / 1e6:.2f} M rows/s (at least 1),"
            f" {seconds / plain:.0f} times reading it"
        )


if __name__ == "__main__":
    main()
