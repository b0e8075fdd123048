"""Which part of all packets each line of a list takes, counted exactly: packets count as different
where lists can tell them apart.
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
    """A line of a list: the part of all packets of the family that it decides, and the part of the
    packets it asks for that come as far as it (0 to 1). An entry that is not in force has neither.
    """

    decider: Decider
    taken: float
    reaching: float


def shares(access_list: AccessList, state: State) -> list[Share]:
    """Return the share of each line in one state of the windows, the otherwise line last. Raises
    `TooManyPieces`.
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
