"""Other packets between the ends of an entry, and the line of its list that permits them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossgate.core.audit.context import Case
from crossgate.core.model.accesslist import AccessList, Decider, line_name
from crossgate.core.model.entry import Entry
from crossgate.core.sets import spans as line
from crossgate.core.sets.effort import answered
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import ALL_FLAGS, ALL_PORTS, PROTOCOL_SHIFT, Region
from crossgate.core.sets.spans import Spans
from crossgate.core.wording.sentences import DOES

MOST_PORTS = 1 << 10
"""Who denies more ports than these means no service."""


def ports_of(region: Region, protocol: int) -> Spans:
    """Return the ports of a protocol in a region."""
    base = protocol << PROTOCOL_SHIFT
    return line.joined(
        (first - base, end - base)
        for first, end in line.common(region.what, ((base, base + (1 << 16)),))
    )


def permitted_beside(
    case: Case, access_list: AccessList, entry: Entry, region: Region, what: Spans
) -> tuple[PacketSet, Decider] | None:
    """Return packets between the ends of an entry that carry something else and that its list
    permits while the entry is in force, where the entry denies something between those ends.
    """
    wanted = region._replace(what=what, flags=ALL_FLAGS, source_ports=ALL_PORTS)
    denied = _denied(case, access_list, entry, region)
    with answered(f"what passes beside {line_name(access_list.name, entry.number)}", case.missed):
        for packets, decider in decided(case, access_list, wanted, entry, permitted=True):
            if denied.meets(packets):
                return packets, decider
    return None


def _denied(case: Case, access_list: AccessList, entry: Entry, region: Region) -> _Denied:
    """Return what a list denies of a region; several questions about one entry follow each
    other.
    """
    last = case.kept.get("denied beside")
    if last is None or last.entry is not entry or last.region is not region or last.is_given_up:
        last = case.kept["denied beside"] = _Denied(case, access_list, entry, region)
    found: _Denied = last
    return found


class _Denied:
    """The packets of a region that a list denies while an entry is in force, worked out as far as
    they are asked for.
    """

    def __init__(self, case: Case, access_list: AccessList, entry: Entry, region: Region) -> None:
        self.entry, self.region = entry, region
        self.is_given_up = False
        """Whether a question had too many pieces for the rest."""
        self._known: list[Region] = []
        self._more = (
            each
            for packets, _ in decided(case, access_list, region, entry, permitted=False)
            for each in packets.regions()
        )

    def meets(self, packets: PacketSet) -> bool:
        """Whether the list denies something between the ends of some packets; lines above the entry
        may permit all of it.
        """
        ends = list(packets.regions())
        if any(_between(each, ends) for each in self._known):
            return True
        self.is_given_up = True
        found = any(_between(each, ends) for each in self._each_more())
        self.is_given_up = False
        return found

    def _each_more(self) -> Iterator[Region]:
        for each in self._more:
            self._known.append(each)
            yield each


def _between(denied: Region, ends: Sequence[Region]) -> bool:
    """Whether some denied packets are between the ends of other ones."""
    return any(
        denied.source.meets(each.source) and denied.destination.meets(each.destination)
        for each in ends
    )


def decided(
    case: Case,
    access_list: AccessList,
    region: Region,
    entry: Entry | None = None,
    permitted: bool | None = None,
) -> Iterator[tuple[PacketSet, Decider]]:
    """Yield the parts of a region that lines of a list decide, in every state of its windows; with
    an entry, only in states in which it is in force, and with `permitted` only those that are so.
    """
    for opened in case.states(access_list):
        if entry is None or entry.in_force(opened):
            yield from case.session.regions.of(access_list, opened).split(region, permitted)


def does(decider: Decider) -> str:
    """Say which line of a list decides, and how."""
    return (
        f"{'the otherwise line' if decider.number is None else decider.number} "
        f"{DOES[decider.action]} it"
    )
