"""The parts that several documents share: endpoints, packets, findings, lines of lists, sets of
packets.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any, NotRequired, TypedDict

from crossgate.core.model.accesslist import ClosedPlace
from crossgate.core.model.address import Address
from crossgate.core.model.packet import Packet
from crossgate.core.model.plaintext import escaped_json
from crossgate.core.model.tls import VERSIONS, suite_name

if TYPE_CHECKING:
    from crossgate.core.conversation.rules import Decided
    from crossgate.core.model.accesslist import AnyList, Decider
    from crossgate.core.model.conditions import When
    from crossgate.core.model.finding import Finding
    from crossgate.core.model.tls import Hello, TlsTest
    from crossgate.core.network.paths import Endpoint
    from crossgate.core.sets.minimise import SetLine
    from crossgate.core.wording.services import Sort
from crossgate.core.wording.sets import Wording

Document = Mapping[str, object]


class EndpointDocument(TypedDict):
    """One end of a conversation."""

    name: str
    address: str


class HelloDocument(TypedDict):
    """The TLS that a conversation settles on."""

    version: str
    suite: str


class WhenDocument(TypedDict):
    """Which time and which conversations a question was about; `tls` is null for no TLS."""

    at: str
    flooding: bool
    tls: HelloDocument | None


class TlsDocument(TypedDict):
    """Which TLS an entry asks for, null for any."""

    versions: list[str] | None
    suites: list[str] | None


class PacketDocument(TypedDict):
    """One packet; it has no more fields than its protocol."""

    family: int
    source: str
    destination: str
    protocol: int
    source_port: NotRequired[int]
    destination_port: NotRequired[int]
    icmp_type: NotRequired[int]
    icmp_code: NotRequired[int]
    flags: NotRequired[int]
    fragment: NotRequired[bool]
    dscp: NotRequired[int]


class ServiceLineDocument(TypedDict):
    """Packets of a set, in words."""

    service: str
    source: str
    destination: str


class ListNameDocument(TypedDict):
    """A list by name, null where there is none."""

    list: str | None


class AskedListDocument(ListNameDocument):
    """The list that is asked at a place; `closed` where the device denies because none is placed
    there.
    """

    closed: NotRequired[bool]


class DeciderDocument(TypedDict):
    """The line of a list that decides; `entry` is null for the otherwise line."""

    entry: int | None
    action: str
    line: int


class DecidedDocument(AskedListDocument, DeciderDocument):
    """The line that decided, and where its list stands."""

    point: str
    direction: str


class FindingDocument(ListNameDocument):
    """A finding: where it is, what is wrong and what mends it."""

    finding: str
    severity: str
    file: str
    line: int
    entry: int | None
    message: str
    what: str
    mend: str
    because: list[int]
    packet: PacketDocument | None
    segment: str | None


class PlanLineDocument(TypedDict):
    """A line of the plan: its file, its number there, and its text."""

    file: str
    line: int
    text: str


EndsDocument = TypedDict("EndsDocument", {"from": EndpointDocument, "to": EndpointDocument})
"""Both ends of a conversation."""
EndNamesDocument = TypedDict("EndNamesDocument", {"from": str, "to": str})
"""Both ends of a conversation, by their names."""


def json_text(document: Document) -> str:
    """Return a document as text, with escapes for characters that would control a terminal."""
    import json

    return escaped_json(json.dumps(document, indent=2, ensure_ascii=False)) + "\n"


def endpoint_document(end: Endpoint) -> EndpointDocument:
    """Return one end of a conversation."""
    return {"name": end.name, "address": str(end.address)}


def when_document(when: When) -> WhenDocument:
    """Return which time and which conversations a question was about."""
    return {"at": when.at.isoformat(), "flooding": when.flooding, "tls": hello_document(when.hello)}


def hello_document(hello: Hello | None) -> HelloDocument | None:
    """Return what a conversation settles on, null for no TLS."""
    return (
        None
        if hello is None
        else {
            "version": VERSIONS.get(hello.version, f"0x{hello.version:04x}"),
            "suite": suite_name(hello.suite),
        }
    )


def tls_document(test: TlsTest) -> TlsDocument:
    """Return which TLS an entry asks for: versions and suites by name, null for any."""
    return {
        "versions": None
        if test.versions is None
        else [VERSIONS[each] for each in sorted(test.versions)],
        "suites": None
        if test.suites is None
        else [suite_name(each) for each in sorted(test.suites)],
    }


def packet_document(packet: Packet) -> PacketDocument:
    """Return one packet; fields that it does not have are left out."""
    document: PacketDocument = {
        "family": int(packet.family),
        "source": str(Address(packet.family, packet.source)),
        "destination": str(Address(packet.family, packet.destination)),
        "protocol": packet.protocol,
    }
    if packet.source_port is not None:
        document["source_port"] = packet.source_port
    if packet.destination_port is not None:
        document["destination_port"] = packet.destination_port
    if packet.icmp_type is not None:
        document["icmp_type"] = packet.icmp_type
    if packet.icmp_code is not None:
        document["icmp_code"] = packet.icmp_code
    if packet.flags is not None:
        document["flags"] = packet.flags
    if packet.fragment:
        document["fragment"] = True
    if packet.dscp:
        document["dscp"] = packet.dscp
    return document


def finding_document(finding: Finding) -> FindingDocument:
    """Return a finding as its document: name, severity, place and message."""
    return {
        "finding": finding.name,
        "severity": str(finding.severity),
        "file": finding.place.file,
        "line": finding.place.line,
        "list": finding.access_list,
        "entry": finding.entry,
        "message": finding.message,
        "what": finding.fault.what,
        "mend": finding.fault.mend,
        "because": list(finding.because),
        "packet": packet_document(finding.packet) if finding.packet else None,
        "segment": finding.segment,
    }


def lines_document(
    wording: Wording, lines: Iterable[SetLine], sort: Sort, machines: bool = False
) -> list[ServiceLineDocument]:
    """Return a set of packets as lines in words, as `Wording.rows` writes them."""
    rows = wording.rows(lines, sort, machines)
    return [
        {"service": service, "source": source, "destination": destination}
        for service, source, destination in rows
    ]


def decided_document(stop: Decided | None) -> DecidedDocument | None:
    """Return which line of a list decided, and where the list stands."""
    if stop is None:
        return None
    return {
        "point": str(stop.crossing.point),
        "direction": str(stop.crossing.direction),
        **asked_list(stop.decider.access_list),
        **decider_document(stop.decider),
    }


def asked_list(access_list: AnyList[Any] | None) -> AskedListDocument:
    """Return which list is asked; for a `closed` device that denies because no list is placed
    there, that is told instead.
    """
    if isinstance(access_list, ClosedPlace):
        return {"list": None, "closed": True}
    return {"list": None if access_list is None else access_list.name}


def decider_document(decider: Decider) -> DeciderDocument:
    """Return a line of a list; its entry is null for the otherwise line."""
    return {"entry": decider.number, "action": str(decider.action), "line": decider.place.line}
