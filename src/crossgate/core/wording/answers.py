"""The entries that let the answers of a conversation by, as text."""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.conversation.opening import service_of
from crossgate.core.conversation.story import LegTrace
from crossgate.core.model import iana
from crossgate.core.model.address import Family
from crossgate.core.model.claim import Expectation
from crossgate.core.model.entry import Action
from crossgate.core.model.packet import PORT_PROTOCOLS, TCP, Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import ServiceError, format_ports, protocol_word
from crossgate.core.sets.meaning import outside_in


def answer_text(plan: Plan, expectation: Expectation, action: Action, leg: LegTrace) -> str:
    """Return an entry of an extended list for the answers to what a claim is about."""
    service, mark = answer_service(leg.packet)
    return (
        f"{action} {service} {end_text(plan, expectation.destination)} to "
        f"{end_text(plan, expectation.source)}{mark}"
    )


def answer_service(packet: Packet) -> tuple[str, str]:
    """Return the service of an answer as an entry writes it, and the words after the ends."""
    if packet.protocol == TCP:
        return "tcp", " established"
    if packet.protocol in PORT_PROTOCOLS:
        return protocol_word(packet.protocol, packet.family), f" source port {packet.source_port}"
    return service_of(packet), ""


def answers_text(
    plan: Plan, word: str, family: Family, source: str, destination: str
) -> Iterator[str]:
    """Yield the entries that permit the answers to a service; none where it has no part in the
    family.
    """
    try:
        terms = plan.service(word, family).terms
    except ServiceError:
        return
    ends = f"{end_text(plan, source)} to {end_text(plan, destination)}"
    for term in terms:
        if term.protocol == TCP:
            yield f"permit tcp {ends} established"
        elif term.ports is not None and term.protocol is not None:
            yield (
                f"permit {protocol_word(term.protocol, family)} {ends} source port "
                f"{format_ports(term.ports)}"
            )
        elif term.icmp_type is not None and term.protocol is not None:
            answer = iana.ANSWERED[term.protocol].get(term.icmp_type)
            if answer is not None:
                yield (
                    "permit "
                    f"{service_of(Packet(family, 0, 0, term.protocol, icmp_type=answer, icmp_code=0))} "
                    f"{ends}"
                )
        else:
            yield (
                "permit "
                f"{'ip' if term.protocol is None else protocol_word(term.protocol, family)} "
                f"{ends}"
            )


def end_text(plan: Plan, word: str) -> str:
    """Return an end of a claim as an entry can name it: an outside is written as any."""
    outside = outside_in(plan, word)
    return f"any{word.removeprefix(outside)}" if outside else word
