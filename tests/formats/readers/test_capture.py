"""Captures: every kind of link and header, read alike by another library, and files that are
damaged.
"""

from __future__ import annotations

import gzip
import ipaddress
import os
import struct
import subprocess
import sys
from collections.abc import Callable, Sequence
from contextvars import copy_context
from pathlib import Path
from typing import Any

import dpkt
import pyarrow as pa
import pytest

from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import Packet
from crossgate.core.traffic.seen import SECOND
from crossgate.demo.traffic import DAY, MIDNIGHT, SEA, Day, write_captures
from crossgate.formats.bounds import allow_unpacked
from crossgate.formats.readers.capture import Account, CaptureSource, read_capture
from crossgate.formats.readers.traffic import Traffic

V4, V6 = Family.IPV4, Family.IPV6
HERE, THERE = ipaddress.ip_address("10.0.0.1"), ipaddress.ip_address("10.0.0.2")
HERE_6, THERE_6 = ipaddress.ip_address("2001:db8::1"), ipaddress.ip_address("2001:db8::2")


def pcap(path: Path, frames: Sequence[bytes], link: int = 1, cut: int = 0) -> Path:
    octets = bytearray(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65_535, link))
    for number, frame in enumerate(frames):
        octets += (
            struct.pack("<IIII", 1_700_000_000 + number, 250_000, len(frame), len(frame)) + frame
        )
    path.write_bytes(octets[: len(octets) - cut])
    return path


def ipv4(protocol: int, body: bytes, pieces: int = 0, options: bytes = b"", tos: int = 0) -> bytes:
    words = 5 + len(options) // 4
    head = struct.pack(
        ">BBHHHBBH", 0x40 | words, tos, 4 * words + len(body), 77, pieces, 64, protocol, 0
    )
    return head + HERE.packed + THERE.packed + options + body


def ipv6(chain: Sequence[tuple[int, bytes]], body: bytes, protocol: int, tos: int = 0) -> bytes:
    """Return a packet with a chain of extension headers: each one's own number, and all of it but
    the next header's number.
    """
    numbers = [number for number, _ in chain] + [protocol]
    rest = (
        b"".join(
            bytes([following]) + own for (_, own), following in zip(chain, numbers[1:], strict=True)
        )
        + body
    )
    return (
        struct.pack(">IHBB", 6 << 28 | tos << 20, len(rest), numbers[0], 64)
        + HERE_6.packed
        + THERE_6.packed
        + rest
    )


TCP = struct.pack(">HHIIBBHHH", 50_000, 443, 1, 0, 0x50, 18, 100, 0, 0)
UDP = struct.pack(">HHHH", 50_000, 53, 8, 0)
PING = struct.pack(">BBHHH", 8, 0, 0, 4711, 1)


def read(path: Path) -> tuple[list[Packet], Account, list[Any]]:
    account = Account()
    batches = list(read_capture(CaptureSource(path, None, str(path)), account, path.name))
    every = [seen for batch in batches for seen in batch.values()]
    return [seen.packets.packet(row) for seen in every for row in range(len(seen))], account, every


def test_each_kind_of_link_gives_the_same_packets(tmp_path: Path) -> None:
    packets = [ipv4(6, TCP), ipv6([], UDP, 17)]
    kinds: dict[int, Callable[[bytes, bytes], bytes]] = {
        1: lambda each, kind: bytes(12) + kind + each,
        101: lambda each, kind: each,
        12: lambda each, kind: each,
        0: lambda each, kind: struct.pack("<I", 2 if kind == b"\x08\x00" else 30) + each,
        108: lambda each, kind: struct.pack(">I", 2 if kind == b"\x08\x00" else 24) + each,
        113: lambda each, kind: bytes(14) + kind + each,
        276: lambda each, kind: kind + bytes(18) + each,
    }
    want = [
        Packet(V4, int(HERE), int(THERE), 6, 50_000, 443, flags=18),
        Packet(V6, int(HERE_6), int(THERE_6), 17, 50_000, 53),
    ]
    for link, wrap in kinds.items():
        frames = [wrap(packets[0], b"\x08\x00"), wrap(packets[1], b"\x86\xdd")]
        found, account, _ = read(pcap(tmp_path / "each.pcap", frames, link))
        assert found == want, link
        assert (account.frames, account.other, account.cut, account.damaged) == (2, 0, 0, 0)


def test_vlan_tags_one_and_two(tmp_path: Path) -> None:
    tag, outer = b"\x81\x00\x00\x50", b"\x88\xa8\x00\x07"
    frames = [bytes(12) + tags + b"\x08\x00" + ipv4(17, UDP) for tags in (tag, outer + tag)]
    found, _, _ = read(pcap(tmp_path / "tags.pcap", frames))
    assert found == [Packet(V4, int(HERE), int(THERE), 17, 50_000, 53)] * 2


def test_options_extension_headers_and_fragments(tmp_path: Path) -> None:
    fragment = bytes(1) + struct.pack(">HI", 185 << 3 | 1, 9)
    first = bytes(1) + struct.pack(">HI", 1, 9)
    frames = [
        ipv4(6, TCP, options=b"\x01" * 8, tos=46 << 2),
        ipv4(17, bytes(8), pieces=185),
        ipv4(1, PING),
        ipv6(
            [(0, bytes(7)), (43, b"\x01" + bytes(14)), (60, bytes(7)), (51, b"\x01" + bytes(10))],
            TCP,
            6,
            tos=46 << 2,
        ),
        ipv6([(44, fragment)], bytes(8), 17),
        ipv6([(44, first)], UDP, 17),
        ipv6([], struct.pack(">BBHHH", 129, 0, 0, 4711, 1), 58),
        ipv4(50, bytes(8)),
    ]
    found, account, seen = read(pcap(tmp_path / "headers.pcap", frames, 101))
    ends, ends_6 = (int(HERE), int(THERE)), (int(HERE_6), int(THERE_6))
    assert found == [
        Packet(V4, *ends, 6, 50_000, 443, flags=18, dscp=46),
        Packet(V4, *ends, 17, fragment=True),
        Packet(V4, *ends, 1, icmp_type=8, icmp_code=0),
        Packet(V4, *ends, 50),
        Packet(V6, *ends_6, 6, 50_000, 443, flags=18, dscp=46),
        Packet(V6, *ends_6, 17, fragment=True),
        Packet(V6, *ends_6, 17, 50_000, 53),
        Packet(V6, *ends_6, 58, icmp_type=129, icmp_code=0),
    ]
    assert [each.identifier.tolist() for each in seen] == [[0, 0, 4711, 0], [0, 0, 0, 4711]]
    assert seen[0].first.tolist()[0] == 1_700_000_000 * SECOND + 250_000
    assert seen[0].octets[0].tolist()[2] == 28
    assert account.damaged == 0


def test_frames_that_tell_too_little_are_counted_with_the_number_of_the_first(
    tmp_path: Path,
) -> None:
    frames = [
        bytes(12) + b"\x08\x06" + bytes(28),  # ARP
        bytes(12) + b"\x08\x00" + ipv4(6, TCP)[:30],  # cut behind the ports: no flags
        bytes(12) + b"\x08\x00" + ipv4(6, TCP)[:15],
        bytes(12) + b"\x08\x00" + ipv6([], UDP, 17),  # says IPv4, and is not
        bytes(12) + b"\x08\x00" + b"\x42" + ipv4(6, TCP)[1:],  # a header of 8 octets
        bytes(10),
        bytes(12) + b"\x08\x00" + ipv4(17, UDP),
    ]
    found, account, _ = read(pcap(tmp_path / "odd.pcap", frames))
    assert len(found) == 1
    assert (account.frames, account.other, account.cut, account.damaged) == (7, 1, 3, 2)
    assert account.first == {"other": 1, "cut": 2, "damaged": 4}


def test_the_same_packet_before_and_after_a_router_has_one_identity(tmp_path: Path) -> None:
    once = ipv4(6, TCP)
    routed = once[:8] + b"\x3f" + once[9:10] + b"\xab\xcd" + once[12:]
    other = ipv4(6, TCP[:4] + b"\x00\x00\x00\x02" + TCP[8:])
    _, _, seen = read(pcap(tmp_path / "twice.pcap", [once, routed, other, ipv6([], UDP, 17)], 101))
    first, second, third = seen[0].identity.tolist()
    assert first == second != third
    assert seen[1].identity.tolist()[0] not in (0, first)


def test_another_library_reads_the_demo_alike(tmp_path: Path) -> None:
    write_captures(tmp_path, Day())
    for name in (DAY, SEA):
        found, account, _ = read(tmp_path / name)
        with (tmp_path / name).open("rb") as file:
            want = sorted(
                packet
                for _, frame in dpkt.pcap.Reader(file)
                if (packet := by_dpkt(frame)) is not None
            )
        assert sorted(_plain(each) for each in found) == want
        assert account.frames == len(want)
        assert (account.cut, account.damaged, account.other) == (0, 0, 0)


def _plain(packet: Packet) -> tuple[Any, ...]:
    return tuple(-1 if each is None else each for each in packet)


def by_dpkt(frame: bytes) -> tuple[Any, ...] | None:
    packet = dpkt.ethernet.Ethernet(frame).data
    family = V6 if isinstance(packet, dpkt.ip6.IP6) else V4
    ends = int.from_bytes(packet.src), int.from_bytes(packet.dst)
    body, protocol = packet.data, packet.nxt if family is V6 else packet.p
    dscp = (packet.fc if family is V6 else packet.tos) >> 2
    if family is V4 and packet.offset:
        return _plain(Packet(family, *ends, protocol, fragment=True, dscp=dscp))
    if isinstance(body, bytes):  # the first of several fragments is left as it is
        body = {1: dpkt.icmp.ICMP, 6: dpkt.tcp.TCP, 17: dpkt.udp.UDP}[protocol](body)
    if isinstance(body, dpkt.tcp.TCP):
        return _plain(Packet(family, *ends, 6, body.sport, body.dport, flags=body.flags, dscp=dscp))
    if isinstance(body, dpkt.udp.UDP):
        return _plain(Packet(family, *ends, 17, body.sport, body.dport, dscp=dscp))
    return _plain(
        Packet(family, *ends, protocol, icmp_type=body.type, icmp_code=body.code, dscp=dscp)
    )


def test_what_comes_before_the_damage_counts(tmp_path: Path) -> None:
    frames = [ipv4(17, UDP)] * 5
    found, account, _ = read(pcap(tmp_path / "cut.pcap", frames, 101, cut=3))
    assert len(found) == 4
    assert account.broken.startswith("frame 5: it is cut off or damaged (truncated dump file")


def pcapng(path: Path, links: Sequence[int]) -> Path:
    def block(kind: int, body: bytes) -> bytes:
        body += bytes(-len(body) % 4)
        return struct.pack("<II", kind, len(body) + 12) + body + struct.pack("<I", len(body) + 12)

    octets = block(0x0A0D0D0A, struct.pack("<IHHq", 0x1A2B3C4D, 1, 0, -1))
    for link in links:
        octets += block(1, struct.pack("<HHI", link, 0, 0))
    packet = ipv4(17, UDP)
    for number, link in enumerate(links):
        frame = packet if link == 101 else bytes(12) + b"\x08\x00" + packet
        octets += block(
            6, struct.pack("<IIIII", number, 0x5_F5E1, 0, len(frame), len(frame)) + frame
        )
    path.write_bytes(octets)
    return path


def test_pcapng_is_read_and_two_kinds_of_link_in_one_are_told(tmp_path: Path) -> None:
    found, _, _ = read(pcapng(tmp_path / "one.pcapng", [1, 1]))
    assert found == [Packet(V4, int(HERE), int(THERE), 17, 50_000, 53)] * 2
    _, account, _ = read(pcapng(tmp_path / "two.pcapng", [1, 101]))
    assert "several kinds of link" in account.broken


@pytest.mark.parametrize(
    ("octets", "problem"),
    [
        (b"", "is empty"),
        (b"\x7fELF\0\0\0", "neither a capture"),
        (b"\xd4\xc3\xb2\xa1\x02\x00", "cut off or damaged"),
        (b"\x1f\x8bnot really", "cannot be unpacked"),
    ],
)
def test_what_is_no_capture_is_told(tmp_path: Path, octets: bytes, problem: str) -> None:
    path = tmp_path / "file"
    path.write_bytes(octets)
    with pytest.raises(PlanError, match=problem):
        list(Traffic([path], {}, 0).batches())


def test_a_link_that_is_not_read_is_told(tmp_path: Path) -> None:
    with pytest.raises(
        PlanError,
        match=r"wifi\.pcap was captured on a link of type 105, which is not read; Ethernet",
    ):
        read(pcap(tmp_path / "wifi.pcap", [bytes(40)], 105))


def test_compressed_captures_are_unpacked(tmp_path: Path) -> None:
    plain = pcap(tmp_path / "plain.pcap", [ipv4(17, UDP)] * 3, 101)
    packed = tmp_path / "packed.pcap.gz"
    packed.write_bytes(gzip.compress(plain.read_bytes()))
    other = tmp_path / "packed.pcap.zst"
    with pa.CompressedOutputStream(str(other), "zstd") as stream:
        stream.write(plain.read_bytes())
    for path in (plain, packed, other):
        traffic = Traffic([path], {}, 0)
        assert sum(len(seen) for batch, _ in traffic.batches() for seen in batch.values()) == 3
        assert (traffic.told[0].kind, traffic.rows) == ("capture", 3)


def test_a_packed_capture_that_is_cut_off_is_told(tmp_path: Path) -> None:
    whole = pcap(tmp_path / "plain.pcap", [ipv4(17, UDP)] * 100_000, 101).read_bytes()
    (tmp_path / "cut.pcap.gz").write_bytes(gzip.compress(whole)[:-5_000])
    with pytest.raises(PlanError, match=r"cut\.pcap\.gz cannot be unpacked: Compressed file ended"):
        list(Traffic([tmp_path / "cut.pcap.gz"], {}, 0).batches())
    (tmp_path / "inside.pcap.gz").write_bytes(gzip.compress(whole[:4_000_003] + bytes(3_000_000)))
    traffic = Traffic([tmp_path / "inside.pcap.gz"], {}, 0)
    assert sum(len(seen) for batch, _ in traffic.batches() for seen in batch.values()) > 1_000
    assert traffic.told[0].capture is not None
    assert "cut off or damaged" in traffic.told[0].capture.broken


@pytest.mark.parametrize("octets", [1, 23, 24, 4_000, 200_000])
def test_a_packed_capture_of_any_length_comes_to_its_end(tmp_path: Path, octets: int) -> None:
    whole = pcap(tmp_path / "plain.pcap", [ipv4(17, UDP)] * 10_000, 101).read_bytes()
    (tmp_path / "short.pcap.gz").write_bytes(gzip.compress(whole[:octets]))
    source = CaptureSource(tmp_path / "short.pcap.gz", "gzip", "short")
    if octets < 24:
        with pytest.raises(
            PlanError, match="short cannot be read as a capture: it is cut off or damaged"
        ):
            list(read_capture(source, Account(), "short"))
        return
    frames = sum(
        len(seen) for each in read_capture(source, Account(), "short") for seen in each.values()
    )
    assert frames == (octets - 24) // (16 + len(ipv4(17, UDP)))


@pytest.mark.parametrize(
    ("does", "told"),
    [
        ("", "there is nothing in it"),
        ("sys.exit('x cannot be unpacked: why')", "x cannot be unpacked: why"),
        ("os.kill(os.getpid(), 9)", "the process that does it ended with -9"),
        (
            "sys.stdout.buffer.write(HEAD); sys.stdout.flush(); os.kill(os.getpid(), 9)",
            "the process that does it ended with -9",
        ),
    ],
)
def test_a_helper_that_dies_is_told(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, does: str, told: str
) -> None:
    head = pcap(tmp_path / "plain.pcap", [ipv4(17, UDP)] * 3, 101).read_bytes()
    code = f"import os, sys, time; HEAD = {head!r}\n" + does.replace(
        "sys.stdout.flush();", "sys.stdout.flush(); time.sleep(0.3);"
    )

    def dying(path: Path, kind: str, name: str, into: int) -> subprocess.Popen[bytes]:
        return subprocess.Popen([sys.executable, "-c", code], stdout=into, stderr=subprocess.PIPE)

    monkeypatch.setattr("crossgate.formats.readers.capture.started", dying)
    with pytest.raises(PlanError, match=told):
        list(read_capture(CaptureSource(tmp_path / "x", "gzip", "x"), Account(), "x"))


@pytest.mark.parametrize("name", ["zeros.pcap.gz", "zeros.csv.gz", "zeros.json.gz"])
def test_what_unpacks_to_more_than_is_allowed_is_told(tmp_path: Path, name: str) -> None:
    first = {
        "p": pcap(tmp_path / "p", [ipv4(17, UDP)], 101).read_bytes(),
        "c": b"src,dst,proto\n",
        "j": b'{"src": "10.0.0.1"}\n',
    }
    rows = {"p": bytes(16), "c": b"10.0.0.1,10.0.0.2,6\n", "j": b'{"src": "10.0.0.1"}\n'}
    kind = name.split(".")[1][0]
    (tmp_path / name).write_bytes(gzip.compress(first[kind] + rows[kind] * 200_000))

    def replayed() -> None:
        allow_unpacked(1 << 20)
        list(Traffic([tmp_path / name], {}, 0).batches())

    with pytest.raises(
        PlanError,
        match=f"{name} unpacks to more than .* GB; if that is meant, allow more: --unpacked",
    ):
        copy_context().run(replayed)


def test_the_demo_is_a_day(tmp_path: Path) -> None:
    write_captures(tmp_path, Day())
    _, account, seen = read(tmp_path / DAY)
    assert account.frames > 20_000
    assert min(int(each.first.min()) for each in seen) >= MIDNIGHT * SECOND
    assert max(int(each.last.max()) for each in seen) < (MIDNIGHT + 86_400) * SECOND


def test_a_pipe_is_read_from_standard_input_alone(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    with pytest.raises(
        PlanError, match="is no regular file; what comes through a pipe is read from standard input"
    ):
        list(Traffic([tmp_path / "pipe"], {}, 0).batches())
