"""Services as sets of packets: the parts of a box that say nothing of addresses."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, NamedTuple

from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.service import Service, ServiceTerm
from crossgate.core.sets.boxes import ALL_PORTS, ALL_PROTOCOLS, FRAGMENT_BIT, LOW_FREE, Box, address_box, overlap, whole

if TYPE_CHECKING:
    pass


class ServicePart(NamedTuple):
    """The part of a box that says nothing of addresses: flags, fragment and DSCP as bits, and the three spans."""

    value: int
    wildcard: int
    spans: tuple[int, int, int, int, int, int]


def term_parts(term: ServiceTerm) -> Iterator[ServicePart]:
    """Yield the parts of one term; a part that asks for ports or a message has no fragments."""
    protocols = ALL_PROTOCOLS if term.protocol is None else (term.protocol, term.protocol)
    unfragmented = LOW_FREE & ~FRAGMENT_BIT
    if term.ports is not None:
        for ports in term.ports:
            yield ServicePart(0, unfragmented, (*protocols, *ALL_PORTS, *ports))
    elif term.icmp_type is not None:
        first = term.icmp_type << 8 | (term.icmp_code or 0)
        last = first if term.icmp_code is not None else first | 255
        yield ServicePart(0, unfragmented, (*protocols, *ALL_PORTS, first, last))
    else:
        yield ServicePart(0, LOW_FREE, (*protocols, *ALL_PORTS, *ALL_PORTS))


def service_parts(service: Service) -> tuple[ServicePart, ...]:
    """Return the parts of a service."""
    return tuple(part for term in service.terms for part in term_parts(term))


def service_boxes(service: Service, source: Pattern, destination: Pattern) -> list[Box]:
    """Return every packet of a service between two sets of addresses."""
    base = address_box(source, destination)
    boxes = (overlap(base, _service_box(source.family, part)) for part in service_parts(service))
    return [box for box in boxes if box is not None]


def _service_box(family: Family, part: ServicePart) -> Box:
    return Box(family, part.value, whole(family).wildcard & ~LOW_FREE | part.wildcard, *part.spans)
