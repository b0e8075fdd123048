"""Sets of opening packets, and how translations have changed them at the place where a list sees
them (`network.view`).

A rewriting changes one end of a packet, independently of the other and in the same way for all
packets that it takes. So the packets of a region that it turns into members of another region are a
region again.
"""

from __future__ import annotations

from crossgate.core.network.view import Choice, Rewriting, View
from crossgate.core.sets import spans as line
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.region import ALL_PORTS, PROTOCOL_SHIFT, Region, whole_packets
from crossgate.core.sets.spans import Spans


class SeenRegion:
    """The packets of a region in a view; every rewriting of the view takes all of them."""

    def __init__(self, region: Region, view: View) -> None:
        self._view = view
        self._images = [region]
        for each in view:
            self._images.append(_image(self._images[-1], each))

    @property
    def image(self) -> Region:
        """Return a region that contains all packets as they are seen there, whatever was chosen; it
        may contain more.
        """
        return self._images[-1]

    def made(self, region: Region, choice: Choice | None) -> Region | None:
        """Return the packets, as they were sent, that are seen inside a region; None where there
        are none.

        `choice` is the source address and port that the last translation with a choice gave them.
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
    """Whether a region has packets with the address and port that were chosen for their source."""
    inside = AddressSet(region.family, spans=((choice.address, choice.address + 1),))
    return bool(region.source & inside) and line.contains(region.source_ports, choice.port)


def _image(region: Region, made: Rewriting) -> Region:
    """Return what a rewriting that takes all packets of a region turns them into."""
    if made.side:
        what = region.what if made.port is None else _asked_then(region.what, made.port)
        return region._replace(destination=_moved(region.destination, made.offset), what=what)
    if made.pool:
        pool = AddressSet.of(region.family, made.pool)
        return region._replace(source=pool, source_ports=ALL_PORTS)
    return region._replace(source=_moved(region.source, made.offset))


def _moved(addresses: AddressSet, offset: int) -> AddressSet:
    """Return the addresses, which lie in one prefix, shifted by an offset into another."""
    if addresses.spans is not None:
        spans = tuple((first + offset, end + offset) for first, end in addresses.spans)
        return AddressSet(addresses.family, spans=spans)
    return AddressSet.of(
        addresses.family,
        (each._replace(value=each.value + offset) for each in addresses.patterns),
    )


def _asked_then(what: Spans, port: int) -> Spans:
    """Return what is carried once its destination port, whatever it was, is replaced by `port`."""
    protocols = sorted({first >> PROTOCOL_SHIFT for first, _ in what})
    return tuple(
        (each << PROTOCOL_SHIFT | port, (each << PROTOCOL_SHIFT | port) + 1) for each in protocols
    )


def _asked_before(what: Spans, port: int) -> Spans:
    """Return all that becomes the given traffic once its destination port, whatever it was, is
    replaced by `port`.
    """
    protocols = sorted({first >> PROTOCOL_SHIFT for first, _ in what})
    return line.joined(span for each in protocols for span in whole_packets(each))
