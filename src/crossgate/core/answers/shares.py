"""How much of all packets each line of a list takes: counted exactly, as numbers of packets that
differ in what lists can ask for.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.lists.split import ListRegions
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.condition import State
from crossgate.core.sets.effort import question
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import every_packet


class Share(NamedTuple):
    """A line of a list: what part of all packets of the family it decides, and what part of those
    that it asks for come to it (0 to 1).

    An entry that is not in force has no part of either.
    """

    decider: Decider
    taken: float
    reaching: float


def shares(access_list: AccessList, state: State) -> list[Share]:
    """Return the share of each line while just these windows are open, the otherwise line last.
    Raises `TooManyPieces`.
    """
    with question(f"the shares of list {access_list.name}"):
        regions = ListRegions(access_list, state)
        whole = every_packet(access_list.family)
        total = PacketSet.of(whole).size
        taken: dict[int | None, int] = {}
        for packets, decider in regions.split(whole):
            taken[decider.number] = taken.get(decider.number, 0) + packets.size
        asked = {
            each.entry.number: PacketSet.of(each.region).size
            for each in regions.regions
            if each.region is not None
        }
    found = []
    for entry in (*access_list.entries, None):
        number = None if entry is None else entry.number
        own = taken.get(number, 0)
        of = total if entry is None else asked.get(number or 0, 0)
        found.append(Share(Decider(access_list, entry), own / total, own / of if of else 0.0))
    return found
