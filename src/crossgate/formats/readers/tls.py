"""What a TLS server chose, from its hello: the version and the cipher suite.

Sources: RFC 8446 sections 4.1.3 and 4.2.1, RFC 5246 sections 6.2.1 and 7.4.1.3.
"""

from __future__ import annotations

from crossgate.core.model.tls import Hello

HANDSHAKE, SERVER_HELLO = 22, 2
_SUPPORTED_VERSIONS = 43
_RETRY = bytes.fromhex("cf21ad74e59a6111be1d8c021e65b891c2a211167abb8c5e079e09e2c8a8339c")
"""The random value by which a hello asks the client to begin again (RFC 8446 section 4.1.3)."""


def server_hello(record: bytes) -> Hello | None:
    """Return what the server hello at the start of a TLS record chooses; None where there is none,
    or not enough of it.
    """
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
