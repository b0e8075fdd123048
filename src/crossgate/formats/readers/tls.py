"""What a TLS server chose, read from its hello: the version and the cipher suite.

Sources: RFC 8446 sections 4.1.3 and 4.2.1, RFC 5246 sections 6.2.1 and 7.4.1.3; the IANA registry "TLS Cipher Suites", of which
the suites that are in use are here.
"""

from __future__ import annotations

from functools import cache
from typing import NamedTuple

HANDSHAKE, SERVER_HELLO = 22, 2
VERSIONS = {0x0300: "SSL 3.0", 0x0301: "TLS 1.0", 0x0302: "TLS 1.1", 0x0303: "TLS 1.2", 0x0304: "TLS 1.3"}
_SUPPORTED_VERSIONS = 43
_RETRY = bytes.fromhex("cf21ad74e59a6111be1d8c021e65b891c2a211167abb8c5e079e09e2c8a8339c")
"""The random value by which a hello asks the client to begin again (RFC 8446 section 4.1.3)."""


class Hello(NamedTuple):
    """The version and the cipher suite that a server chose, as numbers."""

    version: int
    suite: int


def server_hello(record: bytes) -> Hello | None:
    """Return what the server hello at the start of a TLS record says; None where there is none, or not enough of it."""
    if len(record) < 44 or record[0] != HANDSHAKE or record[1] != 3 or record[5] != SERVER_HELLO:
        return None
    body = record[9 : 9 + int.from_bytes(record[6:9])]
    if len(body) < 35 or body[2:34] == _RETRY:
        return None
    at = 35 + body[34]
    if len(body) < at + 3:
        return None
    version, suite = int.from_bytes(body[:2]), int.from_bytes(body[at : at + 2])
    at += 5  # behind the compression method and the length of the extensions
    while at + 4 <= len(body):
        kind, length = int.from_bytes(body[at : at + 2]), int.from_bytes(body[at + 2 : at + 4])
        if kind == _SUPPORTED_VERSIONS and length == 2 and at + 6 <= len(body):
            version = int.from_bytes(body[at + 4 : at + 6])
        at += 4 + length
    return Hello(version, suite)


_SUITES = """
0005 RSA_WITH_RC4_128_SHA; 000A RSA_WITH_3DES_EDE_CBC_SHA; 002F RSA_WITH_AES_128_CBC_SHA; 0033 DHE_RSA_WITH_AES_128_CBC_SHA;
0035 RSA_WITH_AES_256_CBC_SHA; 0039 DHE_RSA_WITH_AES_256_CBC_SHA; 003C RSA_WITH_AES_128_CBC_SHA256; 003D RSA_WITH_AES_256_CBC_SHA256;
0067 DHE_RSA_WITH_AES_128_CBC_SHA256; 006B DHE_RSA_WITH_AES_256_CBC_SHA256; 009C RSA_WITH_AES_128_GCM_SHA256;
009D RSA_WITH_AES_256_GCM_SHA384; 009E DHE_RSA_WITH_AES_128_GCM_SHA256; 009F DHE_RSA_WITH_AES_256_GCM_SHA384;
1301 AES_128_GCM_SHA256; 1302 AES_256_GCM_SHA384; 1303 CHACHA20_POLY1305_SHA256; 1304 AES_128_CCM_SHA256; 1305 AES_128_CCM_8_SHA256;
C009 ECDHE_ECDSA_WITH_AES_128_CBC_SHA; C00A ECDHE_ECDSA_WITH_AES_256_CBC_SHA; C013 ECDHE_RSA_WITH_AES_128_CBC_SHA;
C014 ECDHE_RSA_WITH_AES_256_CBC_SHA; C023 ECDHE_ECDSA_WITH_AES_128_CBC_SHA256; C024 ECDHE_ECDSA_WITH_AES_256_CBC_SHA384;
C027 ECDHE_RSA_WITH_AES_128_CBC_SHA256; C028 ECDHE_RSA_WITH_AES_256_CBC_SHA384; C02B ECDHE_ECDSA_WITH_AES_128_GCM_SHA256;
C02C ECDHE_ECDSA_WITH_AES_256_GCM_SHA384; C02F ECDHE_RSA_WITH_AES_128_GCM_SHA256; C030 ECDHE_RSA_WITH_AES_256_GCM_SHA384;
C0AC ECDHE_ECDSA_WITH_AES_128_CCM; C0AD ECDHE_ECDSA_WITH_AES_256_CCM; CCA8 ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256;
CCA9 ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256; CCAA DHE_RSA_WITH_CHACHA20_POLY1305_SHA256
"""


@cache
def suite_names() -> dict[int, str]:
    """Return the names of cipher suites by their numbers."""
    rows = (row.split() for row in _SUITES.split(";"))
    return {int(number, 16): f"TLS_{name}" for number, name in rows}
