"""Column names in tables of flows: the names of IPFIX information elements, and common short forms.

Source: the IANA registry "IPFIX Information Elements" (RFC 7012); reverse elements of RFC 5103 have
`reverse` before an element's name. Names are compared without case, hyphens, underscores and dots.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from enum import StrEnum

from crossgate.core.model.errors import PlanError, nearest


class TrafficColumn(StrEnum):
    """What a column can contain; the words of `--column`, except for the verdict."""

    SOURCE = "source"
    DESTINATION = "destination"
    PROTOCOL = "protocol"
    SOURCE_PORT = "source-port"
    DESTINATION_PORT = "destination-port"
    ICMP = "icmp"
    FLAGS = "flags"
    PACKETS = "packets"
    BYTES = "bytes"
    TIME = "time"
    END = "end"
    DSCP = "dscp"
    BACK_PACKETS = "back-packets"
    BACK_BYTES = "back-bytes"
    BACK_FLAGS = "back-flags"
    VERDICT = "verdict"


NEEDED = (
    TrafficColumn.SOURCE,
    TrafficColumn.DESTINATION,
    TrafficColumn.PROTOCOL,
    TrafficColumn.SOURCE_PORT,
    TrafficColumn.DESTINATION_PORT,
)

NAMES: Mapping[TrafficColumn, tuple[str, ...]] = {
    TrafficColumn.SOURCE: (
        "sourceIPv4Address",
        "sourceIPv6Address",
        "src",
        "source",
        "src ip",
        "source ip",
        "src addr",
        "source address",
        "saddr",
    ),
    TrafficColumn.DESTINATION: (
        "destinationIPv4Address",
        "destinationIPv6Address",
        "dst",
        "destination",
        "dst ip",
        "dest ip",
        "destination ip",
        "dst addr",
        "destination address",
        "daddr",
    ),
    TrafficColumn.PROTOCOL: ("protocolIdentifier", "protocol", "proto", "ip proto", "ip protocol"),
    TrafficColumn.SOURCE_PORT: (
        "sourceTransportPort",
        "tcpSourcePort",
        "udpSourcePort",
        "src port",
        "source port",
        "sport",
        "spt",
    ),
    TrafficColumn.DESTINATION_PORT: (
        "destinationTransportPort",
        "tcpDestinationPort",
        "udpDestinationPort",
        "dst port",
        "dest port",
        "destination port",
        "dport",
        "dpt",
    ),
    TrafficColumn.ICMP: ("icmpTypeCodeIPv4", "icmpTypeCodeIPv6"),
    TrafficColumn.FLAGS: ("tcpControlBits", "flags", "tcp flags"),
    TrafficColumn.PACKETS: ("packetDeltaCount", "packetTotalCount", "packets", "pkts"),
    TrafficColumn.BYTES: ("octetDeltaCount", "octetTotalCount", "bytes", "octets"),
    TrafficColumn.TIME: (
        "flowStartSeconds",
        "flowStartMilliseconds",
        "flowStartMicroseconds",
        "flowStartNanoseconds",
        "time",
        "timestamp",
        "start",
        "start time",
        "first",
        "first seen",
    ),
    TrafficColumn.END: (
        "flowEndSeconds",
        "flowEndMilliseconds",
        "flowEndMicroseconds",
        "flowEndNanoseconds",
        "end",
        "end time",
        "last",
        "last seen",
    ),
    TrafficColumn.DSCP: ("ipDiffServCodePoint", "dscp"),
    TrafficColumn.BACK_PACKETS: (
        "reversePacketDeltaCount",
        "reversePacketTotalCount",
        "back packets",
    ),
    TrafficColumn.BACK_BYTES: ("reverseOctetDeltaCount", "reverseOctetTotalCount", "back bytes"),
    TrafficColumn.BACK_FLAGS: ("reverseTcpControlBits", "back flags"),
    TrafficColumn.VERDICT: (),
}
"""The names that each column may have, IPFIX elements first."""

UNITS = {"milliseconds": 1_000, "microseconds": 1, "nanoseconds": -1_000, "seconds": 1_000_000}
"""Microseconds in a unit that a time's name ends in; a negative one is how many of them are a
microsecond. The last is the end of all others too.
"""


def plain(name: str) -> str:
    """Return a column's name in the form in which names are compared."""
    return "".join(each for each in name.lower() if each.isalnum())


_KNOWN = {plain(name): column for column, names in NAMES.items() for name in names}


def known_column(name: str) -> TrafficColumn | None:
    """Return what a column contains, from its name; None for an unknown name."""
    return _KNOWN.get(plain(name))


def columns_of(
    header: Iterable[str], told: Mapping[TrafficColumn, str], where: str
) -> dict[TrafficColumn, list[str]]:
    """Return which columns of a table contain what; several may contain one thing, as addresses of
    either family.

    `told` are those of `--column`. Raises `PlanError`, which lists the columns, when one that was
    told does not exist, one is missing, or one occurs twice.
    """
    header = list(header)
    found: dict[TrafficColumn, list[str]] = {}
    for column, name in told.items():
        if name not in header:
            near = nearest(name, header)
            raise PlanError(
                f"{where} has no column {name}"
                + (f"; there is {near}" if near else f"; it has {', '.join(header)}")
            )
        found[column] = [name]
    used = [name for name in header if name in told.values() or plain(name) in _KNOWN]
    twice = next((name for name in used if used.count(name) > 1), None)
    if twice is not None:
        raise PlanError(
            f"{where} has the column {twice} twice, and only one of them can be meant; give them "
            "names of their own"
        )
    for name in header:
        known = _KNOWN.get(plain(name))
        if known is not None and known not in told:
            found.setdefault(known, []).append(name)
    for column in NEEDED:
        if column not in found:
            example = NAMES[column][0]
            raise PlanError(
                f"{where} has no column for the {column.replace('-', ' ')}, as {example}; it has "
                f"{', '.join(header) or 'none'};"
                f" name one with --column {column}=NAME"
            )
    return found


def told_columns(words: Iterable[str]) -> dict[TrafficColumn, str]:
    """Read the values of `--column`, each WHAT=NAME. Raises `PlanError`."""
    found = {}
    named = [each for each in TrafficColumn if each is not TrafficColumn.VERDICT]
    for word in words:
        what, equals, name = word.partition("=")
        if not equals or not name or what not in named:
            raise PlanError(
                f"--column {word}: write WHAT=NAME, where WHAT is one of {', '.join(named)}"
            )
        found[TrafficColumn(what)] = name
    return found
