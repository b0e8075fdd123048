"""IPFIX messages: the example of RFC 7011, messages drawn by chance against a table, and messages
that are damaged.
"""

from __future__ import annotations

import random
import socket
import struct
import threading
import time
from collections.abc import Iterable
from contextlib import suppress
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from crossgate.core.model.errors import PlanError
from crossgate.formats.readers.ipfix import MessageAccount, ipfix_batches
from crossgate.formats.readers.listening import listening
from crossgate.formats.readers.traffic import Traffic
from tests.conftest import Run

Field = tuple[int, int] | tuple[int, int, int]
FOUR = ((8, 4), (12, 4), (4, 1), (7, 2), (11, 2), (2, 4), (1, 8), (152, 8), (153, 8))
SIX = ((27, 16), (28, 16), (4, 1), (7, 2), (11, 2), (2, 4), (1, 8), (152, 8), (153, 8))


def a_set(number: int, body: bytes) -> bytes:
    return struct.pack(">HH", number, len(body) + 4) + body


def template(number: int, fields: Iterable[Field]) -> bytes:
    parts = [
        struct.pack(">HH", each[0], each[1])
        if len(each) == 2
        else struct.pack(">HHI", each[0] | 0x8000, each[1], each[2])
        for each in fields
    ]
    return struct.pack(">HH", number, len(parts)) + b"".join(parts)


def message(sequence: int, *sets: bytes, domain: int = 1, exported: int = 1_764_000_000) -> bytes:
    body = b"".join(sets)
    return struct.pack(">HHIII", 10, len(body) + 16, exported, sequence, domain) + body


def rows(*messages: bytes) -> tuple[list[dict[str, Any]], MessageAccount]:
    account = MessageAccount()
    found = [row for batch in ipfix_batches(messages, account) for row in batch.to_pylist()]
    return found, account


def test_the_example_of_the_standard() -> None:
    """RFC 7011 appendix A: five fields, three records."""
    fields = ((8, 4), (12, 4), (15, 4), (2, 4), (1, 4))
    records = [
        ("192.0.2.12", "192.0.2.254", "192.0.2.1", 5009, 5344385),
        ("192.0.2.27", "192.0.2.23", "192.0.2.2", 748, 388934),
        ("192.0.2.56", "192.0.2.65", "192.0.2.3", 5, 6534),
    ]
    body = b"".join(
        b"".join(ip_address(each).packed for each in record[:3]) + struct.pack(">II", *record[3:])
        for record in records
    )
    options = struct.pack(">HHHHHHHHH", 258, 3, 1, 141, 4, 41, 2, 42, 2)
    found, account = rows(
        message(0, a_set(2, template(256, fields)), a_set(3, options)),
        message(0, a_set(256, body), a_set(258, bytes(8))),
    )
    assert [
        (each["sourceIPv4Address"], each["packetDeltaCount"], each["octetDeltaCount"])
        for each in found
    ] == [(int(ip_address(each[0])), each[3], each[4]) for each in records]
    assert found[0]["flowStartMilliseconds"] == 1_764_000_000_000
    assert (account.messages, account.missing, account.untold_sets) == (2, 0, 0)


def drawn(chance: random.Random, count: int) -> list[dict[str, Any]]:
    flows = []
    for _ in range(count):
        six = chance.random() < 0.3
        ends = [
            ip_address(
                f"2001:db8::{chance.randrange(1, 99)}"
                if six
                else f"10.0.0.{chance.randrange(1, 99)}"
            )
            for _ in range(2)
        ]
        start = 1_764_000_000_000 + chance.randrange(10_000_000)
        flows.append(
            {
                "src": ends[0],
                "dst": ends[1],
                "proto": chance.choice((6, 17)),
                "sport": chance.randrange(1, 65536),
                "dport": chance.randrange(1, 65536),
                "packets": chance.randrange(1, 1 << 31),
                "bytes": chance.randrange(1, 1 << 40),
                "flowStartMilliseconds": start,
                "flowEndMilliseconds": start + chance.randrange(1000),
            }
        )
    return flows


def record(flow: dict[str, Any]) -> bytes:
    ends: bytes = flow["src"].packed + flow["dst"].packed
    return ends + struct.pack(">BHHIQQQ", *list(flow.values())[2:])


@pytest.mark.parametrize("seed", range(8))
def test_messages_say_what_a_table_of_the_same_flows_does(tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    flows = drawn(chance, 300)
    table, file = tmp_path / "t.csv", tmp_path / "flows.ipfix"
    table.write_text(
        "\n".join([",".join(flows[0]), *(",".join(map(str, each.values())) for each in flows)])
    )
    parts, sequence, left = [], 0, list(flows)
    parts.append(message(0, a_set(2, template(256, FOUR) + template(257, SIX))))
    while left:
        sets, many = [], 0
        for _ in range(chance.randrange(1, 4)):
            version = left[0]["src"].version if left else 4
            same: list[bytes] = []
            while left and left[0]["src"].version == version and len(same) < 9:
                same.append(record(left.pop(0)))
            if same:
                padding = bytes(chance.randrange(3))
                sets.append(a_set(256 if version == 4 else 257, b"".join(same) + padding))
                many += len(same)
        parts.append(message(sequence, *sets))
        sequence += many
    file.write_bytes(b"".join(parts))
    seen = []
    for path in (table, file):
        traffic = Traffic([path], {}, 0)
        batches = [batch for batch, _ in traffic.batches()]
        seen.append(
            {
                family: [
                    np.concatenate([each[family].first for each in batches if family in each]),
                    np.concatenate([each[family].last for each in batches if family in each]),
                    np.concatenate([each[family].counts[0] for each in batches if family in each]),
                    np.concatenate([each[family].octets[0] for each in batches if family in each]),
                    *(
                        np.concatenate(
                            [
                                getattr(each[family].packets, name)
                                for each in batches
                                if family in each
                            ],
                            axis=-1,
                        )
                        for name in (
                            "source",
                            "destination",
                            "protocol",
                            "source_port",
                            "destination_port",
                        )
                    ),
                ]
                for family in {name for each in batches for name in each}
            }
        )
    assert seen[0].keys() == seen[1].keys()
    for family, columns in seen[0].items():
        for one, other in zip(columns, seen[1][family], strict=True):
            assert (one == other).all()
    assert traffic.told[0].messages is not None
    assert traffic.told[0].messages.missing == 0


def test_fields_of_any_length_reverse_ones_and_short_numbers() -> None:
    fields: tuple[Field, ...] = ((8, 4), (82, 65535), (12, 4), (2, 2), (2, 3, 29305), (999, 4, 7))
    ends = ip_address("10.0.0.1").packed, ip_address("10.0.0.2").packed
    short = ends[0] + b"\3eth" + ends[1] + struct.pack(">H", 7) + b"\0\1\0" + bytes(4)
    long = ends[0] + b"\xff\1\0" + bytes(256) + ends[1] + struct.pack(">H", 8) + bytes(3) + bytes(4)
    found, _ = rows(message(0, a_set(2, template(300, fields)), a_set(300, short + long)))
    assert [each["packetDeltaCount"] for each in found] == [7, 8]
    assert [each["reversePacketDeltaCount"] for each in found] == [256, 0]
    assert {each["destinationIPv4Address"] for each in found} == {int(ip_address("10.0.0.2"))}


@pytest.mark.parametrize(
    ("number", "octets", "milliseconds"),
    [
        (150, struct.pack(">I", 1_764_000_000), 1_764_000_000_000),
        (152, struct.pack(">Q", 1_764_000_000_123), 1_764_000_000_123),
        # RFC 7011 section 6.1.9: seconds since 1900 and a fraction of 2 ** 32.
        (154, struct.pack(">II", 1_764_000_000 + 2_208_988_800, 1 << 31), 1_764_000_000_500),
    ],
)
def test_times_of_each_kind(number: int, octets: bytes, milliseconds: int) -> None:
    fields = ((8, 4), (12, 4), (number, len(octets)))
    found, _ = rows(message(0, a_set(2, template(256, fields)), a_set(256, bytes(8) + octets)))
    assert found[0]["flowStartMilliseconds"] == milliseconds
    assert found[0]["flowEndMilliseconds"] == milliseconds


def test_what_is_missing_is_counted_by_domain() -> None:
    fields = ((8, 4), (12, 4))
    one = a_set(256, bytes(8))
    learn = a_set(2, template(256, fields))
    _, account = rows(
        message(10, learn, one),
        message(11, one),
        message(14, one),  # two are missing
        message(12, one),  # one of them came late
        message(0xFFFFFFFF, learn, one, domain=2),
        message(0, one, domain=2),
        message(0, a_set(999, bytes(8)), domain=3),
    )
    assert (account.messages, account.untold_sets) == (7, 1)
    assert account.missing == 2


def test_a_template_of_the_same_number_takes_the_place_of_the_first() -> None:
    body = ip_address("10.0.0.1").packed + ip_address("10.0.0.2").packed
    found, _ = rows(
        message(0, a_set(2, template(256, ((8, 4), (12, 4)))), a_set(256, body)),
        message(1, a_set(2, template(256, ((12, 4), (8, 4)))), a_set(256, body)),
        message(2, a_set(2, template(256, ()))),
        message(2, a_set(256, body)),
    )
    assert [each["sourceIPv4Address"] & 255 for each in found] == [1, 2]


@pytest.mark.parametrize("seed", range(60))
def test_damaged_messages_end_in_a_count_and_in_no_fault(tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    flows = drawn(chance, 20)
    whole = message(0, a_set(2, template(256, FOUR) + template(257, SIX))) + b"".join(
        message(at, a_set(256 if each["src"].version == 4 else 257, record(each)))
        for at, each in enumerate(flows)
    )
    data = bytearray(whole)
    for _ in range(chance.randrange(1, 6)):
        data[chance.randrange(2, len(data))] = chance.randrange(256)
    path = tmp_path / "x.ipfix"
    path.write_bytes(bytes(data[: chance.randrange(20, len(data) + 1)]))
    traffic = Traffic([path], {}, 0)
    with suppress(PlanError):  # what a file says is refused with its row, and nothing else happens
        list(traffic.batches())
    assert len(traffic.told) == 1


def test_a_file_that_is_cut_off_counts_up_to_there(tmp_path: Path, run: Run) -> None:
    (tmp_path / "net.gate").write_text(
        "subnet a 10.0.0.0/24\nrouter r\n    interface a 10.0.0.1/24\n"
    )
    learn = a_set(2, template(256, FOUR))
    flow = {
        **drawn(random.Random(1), 1)[0],
        "src": ip_address("10.0.0.5"),
        "dst": ip_address("10.0.0.6"),
    }
    whole = message(0, learn, a_set(256, record(flow))) + message(5, a_set(256, record(flow)))
    (tmp_path / "cut.ipfix").write_bytes(whole + message(2, a_set(256, record(flow)))[:-3])
    told = run("replay", "cut.ipfix")
    assert told.returncode == 2
    assert "cut.ipfix: 2 records (IPFIX messages)" in told.stdout
    assert "4 records are missing by the sequence numbers" in told.stdout
    assert "at message 3, which is cut off; what came before it counts" in told.stderr
    (tmp_path / "no.ipfix").write_bytes(b"\0\x0a\0\3" + bytes(40))
    assert "no.ipfix is no file of IPFIX messages" in run("replay", "no.ipfix").stderr


def test_messages_are_waited_for(tmp_path: Path, run: Run) -> None:
    (tmp_path / "net.gate").write_text(
        "subnet a 10.0.0.0/24\nrouter r\n    interface a 10.0.0.1/24\n"
    )
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    flow = {
        **drawn(random.Random(1), 1)[0],
        "src": ip_address("10.0.0.5"),
        "dst": ip_address("10.0.0.6"),
    }
    sent = message(0, a_set(2, template(256, FOUR)), a_set(256, record(flow)))
    over = threading.Event()

    def send() -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as own:
            while not over.is_set():
                own.sendto(sent, ("127.0.0.1", port))
                time.sleep(0.1)

    sender = threading.Thread(target=send)
    sender.start()
    try:
        told = run("replay", "--listen", f"127.0.0.1:{port}", "--for", "3s")
    finally:
        over.set()
        sender.join()
    assert told.returncode == 0, told.stderr
    assert f"127.0.0.1:{port}: " in told.stdout
    assert "permitted" in told.stdout


@pytest.mark.parametrize(
    ("where", "lasting", "told"),
    [
        ("4739", None, "write ADDRESS:PORT"),
        ("localhost:4739", None, "write ADDRESS:PORT"),
        ("127.0.0.1:70000", None, "write ADDRESS:PORT"),
        ("127.0.0.1:4739", "10", "write a number and s, m or h"),
        ("127.0.0.1:4739", "0m", "write a number and s, m or h"),
    ],
)
def test_where_and_how_long_are_looked_at(where: str, lasting: str | None, told: str) -> None:
    with pytest.raises(PlanError, match=told):
        listening(where, lasting)
    assert listening("[::1]:4739", "2h").seconds == 7200
