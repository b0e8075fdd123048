"""A lease as a client and a server of another library speak it: captured, and replayed."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

Answer = Callable[..., Any]


def test_a_lease_that_was_captured_fares_as_the_exchange_is_traced(
    answer: Answer, demo: Path
) -> None:
    from scapy.layers.dhcp import BOOTP, DHCP
    from scapy.layers.inet import IP, UDP
    from scapy.layers.l2 import Ether
    from scapy.utils import wrpcap

    nobody, everybody, client, server = "0.0.0.0", "255.255.255.255", "10.64.41.77", "10.64.40.1"
    messages = (
        ("discover", nobody, everybody),
        ("offer", server, everybody),
        ("request", nobody, everybody),
        ("ack", server, everybody),
        ("request", client, server),
    )
    frames = []
    for number, (kind, source, destination) in enumerate(messages):
        back = source == server
        own, other = (67, 68) if back else (68, 67)
        frame = (
            Ether(src="00:00:5e:00:53:61", dst="ff:ff:ff:ff:ff:ff")
            / IP(src=source, dst=destination)
            / UDP(sport=own, dport=other)
            / BOOTP(op=1 + back, chaddr=bytes.fromhex("00005e005361"), xid=77)
            / DHCP(options=[("message-type", kind), "end"])
        )
        frame.time = 1_764_064_800 + number
        frames.append(frame)
    wrpcap(str(demo / "lease.pcap"), frames)
    seen = answer("replay", "lease.pcap", "--zone", "UTC", "--from", "lighthouse.v400")
    assert seen["verdicts"]["permitted"]["packets"] == 4
    (stopped,) = seen["not_permitted"]
    assert (stopped["list"], stopped["entry"], stopped["packets"]) == ("duty-only", 20, 1)
    told = answer("trace", "guest-1", "lease")["exchanges"][0]
    assert told["verdict"] == "half-open"  # it ends at the renewal, by the same line
    assert [each["address"] for each in answer("replay", "lease.pcap")["no_place"]] == [nobody]
