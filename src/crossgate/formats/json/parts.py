"""The parts that several documents share: endpoints, packets, findings, lines of lists, sets of
packets.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

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

Document = dict[str, Any]


def json_text(document: Document) -> str:
    """Return a document as text, with escapes for characters that would control a terminal."""
    import json

    return escaped_json(json.dumps(document, indent=2, ensure_ascii=False)) + "\n"


def endpoint_document(end: Endpoint) -> Document:
    """Return one end of a conversation."""
    return {"name": end.name, "address": str(end.address)}


def when_document(when: When) -> Document:
    """Return which time and which conversations a question was about."""
    return {"at": when.at.isoformat(), "flooding": when.flooding, "tls": hello_document(when.hello)}


def hello_document(hello: Hello | None) -> Document | None:
    """Return what a conversation settles on, null for no TLS."""
    return (
        None
        if hello is None
        else {
            "version": VERSIONS.get(hello.version, f"0x{hello.version:04x}"),
            "suite": suite_name(hello.suite),
        }
    )


def tls_document(test: TlsTest) -> Document:
    """Return which TLS an entry asks for: versions and suites by name, null for any."""
    return {
        "versions": None
        if test.versions is None
        else [VERSIONS[each] for each in sorted(test.versions)],
        "suites": None
        if test.suites is None
        else [suite_name(each) for each in sorted(test.suites)],
    }


def packet_document(packet: Packet) -> Document:
    """Return one packet; fields that it does not have are left out."""
    document: Document = {
        "family": int(packet.family),
        "source": str(Address(packet.family, packet.source)),
        "destination": str(Address(packet.family, packet.destination)),
        "protocol": packet.protocol,
    }
    for name in ("source_port", "destination_port", "icmp_type", "icmp_code", "flags"):
        if getattr(packet, name) is not None:
            document[name] = getattr(packet, name)
    if packet.fragment:
        document["fragment"] = True
    if packet.dscp:
        document["dscp"] = packet.dscp
    return document


def finding_document(finding: Finding) -> Document:
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
) -> list[Document]:
    """Return a set of packets as lines in words, as `Wording.rows` writes them."""
    rows = wording.rows(lines, sort, machines)
    return [
        {"service": service, "source": source, "destination": destination}
        for service, source, destination in rows
    ]


def decided_document(stop: Decided | None) -> Document | None:
    """Return which line of a list decided, and where the list stands."""
    if stop is None:
        return None
    place = {
        "point": str(stop.crossing.point),
        "direction": str(stop.crossing.direction),
        **asked_list(stop.decider.access_list),
    }
    return place | decider_document(stop.decider)


def asked_list(access_list: AnyList[Any] | None) -> Document:
    """Return which list is asked; for a `closed` device that denies because no list is placed
    there, that is told instead.
    """
    if isinstance(access_list, ClosedPlace):
        return {"list": None, "closed": True}
    return {"list": None if access_list is None else access_list.name}


def decider_document(decider: Decider) -> Document:
    """Return a line of a list; its entry is null for the otherwise line."""
    return {"entry": decider.number, "action": str(decider.action), "line": decider.place.line}
