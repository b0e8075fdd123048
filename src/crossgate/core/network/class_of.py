"""The address class of each of many addresses: the longest prefix that contains it, found by one
binary search.
"""

from __future__ import annotations

import numpy as np

from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.packets import Indices, Words
from crossgate.core.network.address_classes import AddressClasses
from crossgate.core.sets.bounds import BoundFinder

NOWHERE = -1
"""The class of an address that nobody in the plan can have."""


class ClassFinder:
    """Finds the index of the address class of each of many addresses of one family."""

    def __init__(self, family: Family, classes: AddressClasses) -> None:
        patterns = [pattern for each in classes for pattern in (each.pattern, *each.excluded)]
        ends = {end for each in patterns for end in (each.first, each.last + 1)}
        bounds = sorted({0, *(each for each in ends if each <= family.mask)})
        place = {bound: index for index, bound in enumerate(bounds)}
        self._finder = BoundFinder(family, bounds)
        self._class = np.full(len(bounds), NOWHERE, np.int64)

        def paint(block: Pattern, number: int) -> None:
            self._class[place[block.first] : place.get(block.last + 1, len(bounds))] = number

        # What is inside a class comes behind it, and paints over it; some of that is nobody's.
        for number, each in enumerate(classes):
            paint(each.pattern, number)
            for block in each.excluded:
                paint(block, NOWHERE)

    def find(self, addresses: Words) -> Indices:
        """Return the index of the class of each address, `NOWHERE` for an address without one."""
        found: Indices = self._class[self._finder.places(addresses)]
        return found
