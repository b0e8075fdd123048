"""Packets, addresses, tags and hellos of the demo's traffic as octets."""

from __future__ import annotations

import ipaddress
import struct
from collections.abc import Iterator
from functools import cache

SUITES = {"1.2": 0xC02F, "1.3": 0x1301}
"""TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256 and TLS_AES_128_GCM_SHA256 (IANA: TLS Cipher Suites)."""


def vlan_tag(address: str) -> int:
    """Return the VLAN of the subnet that an address is in."""
    return {"8": 80, "9": 80, "16": 160, "20": 200, "40": 400, "41": 400}.get(
        address.split(".")[2] if "." in address else "", 255
    )


@cache
def packed(address: str) -> bytes:
    """Return an address as octets."""
    return ipaddress.ip_address(address).packed


def hardware_of(address: str) -> bytes:
    """Return a hardware address for documentation: 00-00-5E-00-53-xx."""
    return bytes.fromhex("00005e0053") + packed(address)[-1:]


def hello(kind: int, version: str) -> bytes:
    """Return a TLS record with a client's (1) or server's (2) hello (RFC 8446 section 4.1, RFC 5246
    section 7.4.1).
    """
    suite = struct.pack(">H", SUITES[version])
    extension = b""
    if version == "1.3":
        extension = (
            struct.pack(">HHBH", 43, 3, 2, 0x0304)
            if kind == 1
            else struct.pack(">HHH", 43, 2, 0x0304)
        )
    suites = struct.pack(">H", 2) + suite + b"\x01\x00" if kind == 1 else suite + b"\x00"
    body = (
        b"\x03\x03" + bytes(32) + b"\x00" + suites + struct.pack(">H", len(extension)) + extension
    )
    message = bytes([kind]) + len(body).to_bytes(3) + body
    return b"\x16\x03\x01" + struct.pack(">H", len(message)) + message


def ip_packets(
    source: str, destination: str, protocol: int, body: bytes, identifier: int, life: int
) -> Iterator[bytes]:
    """Yield an IP packet, as fragments where it is longer than 1480 octets."""
    ends = packed(source) + packed(destination)
    if ":" in source:
        yield struct.pack(">IHBB", 6 << 28, len(body), protocol, life) + ends + body
        return
    for start in range(0, max(len(body), 1), 1480):
        part = body[start : start + 1480]
        more = 0x2000 if start + 1480 < len(body) else 0
        header = (
            struct.pack(
                ">BBHHHBBH",
                0x45,
                0,
                20 + len(part),
                identifier,
                more | start // 8,
                life,
                protocol,
                0,
            )
            + ends
        )
        total = sum(struct.unpack(">10H", header))
        yield (
            header[:10] + struct.pack(">H", ~(total + (total >> 16)) & 0xFFFF) + header[12:] + part
        )
