"""What servers chose in TLS, by their hellos."""

from __future__ import annotations

import struct
from collections import Counter
from pathlib import Path

from crossgate.core.model.address import parse_address
from crossgate.core.model.tls import Hello, suite_names
from crossgate.demo.wire import hello
from crossgate.formats.readers.capture import Account, CaptureSource, ServerChoice, read_capture
from crossgate.formats.readers.tls import server_hello


def test_a_hello_tells_version_and_suite() -> None:
    assert server_hello(hello(2, "1.2")) == Hello(0x0303, 0xC02F)
    assert server_hello(hello(2, "1.3")) == Hello(0x0304, 0x1301)
    assert suite_names()[0xC02F] == "TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256"


def test_what_is_no_hello_of_a_server_tells_nothing() -> None:
    whole = hello(2, "1.3")
    retry = bytes.fromhex("cf21ad74e59a6111be1d8c021e65b891c2a211167abb8c5e079e09e2c8a8339c")
    for record in (
        hello(1, "1.3"),
        whole[:40],
        b"\x17" + whole[1:],
        whole[:11] + retry + whole[43:],
        b"",
    ):
        assert server_hello(record) is None
    # Cut behind the suite, the version is the one that all hellos have said since TLS 1.2.
    assert server_hello(whole[:48]) == Hello(0x0303, 0x1301)


def test_a_hello_that_is_seen_twice_counts_once(tmp_path: Path) -> None:
    said = struct.pack(">HHIIBBHHH", 443, 50_000, 9, 9, 0x50, 24, 100, 0, 0) + hello(2, "1.3")
    packet = (
        struct.pack(">BBHHHBBH", 0x45, 0, 20 + len(said), 5, 0, 64, 6, 0)
        + bytes([10, 0, 0, 2, 10, 0, 0, 1])
        + said
    )
    octets = struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65_535, 101)
    for microseconds in (0, 400, 30_000):
        octets += struct.pack("<IIII", 1, microseconds, len(packet), len(packet)) + packet
    (tmp_path / "tls.pcap").write_bytes(octets)
    account = Account()
    list(read_capture(CaptureSource(tmp_path / "tls.pcap", None, "tls.pcap"), account, "tls.pcap"))
    assert account.hellos == Counter(
        {ServerChoice(parse_address("10.0.0.2"), 443, 0x0304, 0x1301): 2}
    )
