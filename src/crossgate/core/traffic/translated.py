"""Sets of packets that open conversations, and what translations have made of them where a list
sees them (`network.view`).

A rewriting acts on one end of a packet by itself, and the same on all that it takes. So of the
packets of a region, those that it makes members of another region are a region again.
"""

from __future__ import annotations

from crossgate.core.network.view import Choice, Rewriting, View
from crossgate.core.sets import spans as line
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.region import ALL_PORTS, PROTOCOL_SHIFT, Region, whole_packets
from crossgate.core.sets.spans import Spans


class Seen:
    """The packets of a region in a view, of which every rewriting takes all."""

    def __init__(self, region: Region, view: View) -> None:
        self._view = view
        self._images = [region]
        for each in view:
            self._images.append(_image(self._images[-1], each))

    @property
    def image(self) -> Region:
        """What they are where they are seen, whatever has been chosen; it may hold more."""
        return self._images[-1]

    def made(self, region: Region, choice: Choice | None) -> Region | None:
        """Return the packets, as they were sent, that are in a region where they are seen; None
        where there are none. `choice` is the address and port that the last translation with a
        choice gave to their source.
        """
        found: Region | None = region
        settled = False
        for number in range(len(self._view) - 1, -1, -1):
            found = found and found.common(self._images[number + 1])
            if found is None:
                return None
            each, before = self._view[number], self._images[number]
            if each.side:
                what = found.what if each.port is None else _asked_before(found.what, each.port)
                end = _moved(found.destination, -each.offset)
                found = found._replace(destination=end, what=what)
            elif not each.pool:
                found = found._replace(source=_moved(found.source, -each.offset))
            else:
                if not settled and choice is not None and not _chosen(found, choice):
                    return None
                settled = True
                found = found._replace(source=before.source, source_ports=before.source_ports)
        return found and found.common(self._images[0])


def _chosen(region: Region, choice: Choice) -> bool:
    """Whether a region has packets of what was chosen for their source."""
    inside = AddressSet(region.family, spans=((choice.address, choice.address + 1),))
    return bool(region.source & inside) and line.contains(region.source_ports, choice.port)


def _image(region: Region, made: Rewriting) -> Region:
    """Return what packets become by a rewriting that takes them all."""
    if made.side:
        what = region.what if made.port is None else _asked_then(region.what, made.port)
        return region._replace(destination=_moved(region.destination, made.offset), what=what)
    if made.pool:
        pool = AddressSet.of(region.family, made.pool)
        return region._replace(source=pool, source_ports=ALL_PORTS)
    return region._replace(source=_moved(region.source, made.offset))


def _moved(addresses: AddressSet, offset: int) -> AddressSet:
    """Return addresses that lie in one prefix as those of another, as far on as the offset says."""
    if addresses.spans is not None:
        spans = tuple((first + offset, end + offset) for first, end in addresses.spans)
        return AddressSet(addresses.family, spans=spans)
    return AddressSet.of(
        addresses.family,
        (each._replace(value=each.value + offset) for each in addresses.patterns),
    )


def _asked_then(what: Spans, port: int) -> Spans:
    """Return what is carried once it goes to another port, whatever it went to."""
    protocols = sorted({first >> PROTOCOL_SHIFT for first, _ in what})
    return tuple(
        (each << PROTOCOL_SHIFT | port, (each << PROTOCOL_SHIFT | port) + 1) for each in protocols
    )


def _asked_before(what: Spans, port: int) -> Spans:
    """Return all that is carried to that port then, whatever it went to before."""
    protocols = sorted({first >> PROTOCOL_SHIFT for first, _ in what})
    return line.joined(span for each in protocols for span in whole_packets(each))
