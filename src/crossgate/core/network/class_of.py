"""Which address class each of many addresses is in: the longest prefix that has it, by one search
among sorted bounds.
"""

from __future__ import annotations

import numpy as np

from crossgate.core.model.address import Family
from crossgate.core.model.packets import Indices, Words
from crossgate.core.network.address_classes import AddressClasses
from crossgate.core.sets.bounds import BoundFinder

NOWHERE = -1
"""The class of an address that nobody in the plan can have."""


class ClassFinder:
    """Finds the address classes of a family's addresses, by index."""

    def __init__(self, family: Family, classes: AddressClasses) -> None:
        patterns = [each.pattern for each in classes]
        bounds = sorted(
            {
                0,
                *(
                    end
                    for each in patterns
                    for end in (each.first, each.last + 1)
                    if end <= family.mask
                ),
            }
        )
        place = {bound: index for index, bound in enumerate(bounds)}
        self._finder = BoundFinder(family, bounds)
        self._class = np.full(len(bounds), NOWHERE, np.int64)
        for number, each in enumerate(
            patterns
        ):  # what is inside another comes behind it, and paints over it
            self._class[place[each.first] : place.get(each.last + 1, len(bounds))] = number

    def find(self, addresses: Words) -> Indices:
        """Return the class of each address, `NOWHERE` for one that has none."""
        found: Indices = self._class[self._finder.places(addresses)]
        return found
