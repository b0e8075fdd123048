"""Addresses that occurred in a table."""

from __future__ import annotations

import numpy as np

from crossgate.core.model.address import Family
from crossgate.core.model.packets import Indices, Words, address_words


class KnownAddresses:
    """Addresses that occurred in a table, each parsed once: for each text, its index in columns of
    families and words.
    """

    def __init__(self) -> None:
        self.places: dict[object, int] = {}
        self._met: list[tuple[Family, int] | None] = []
        self._columns: tuple[Indices, dict[Family, Words]] | None = None

    def add(self, value: object, address: tuple[Family, int] | None) -> int:
        """Keep an address, None where a text is none, and return its index."""
        place = self.places[value] = len(self._met)
        self._met.append(address)
        self._columns = None
        return place

    def columns(self) -> tuple[Indices, dict[Family, Words]]:
        """Return the family of each, 0 for none, and for each family the words of its addresses, 0
        for those of the other one.
        """
        if self._columns is None:
            families = np.array([0 if each is None else each[0] for each in self._met], np.int64)
            words = {
                family: address_words(
                    family,
                    [0 if each is None or each[0] is not family else each[1] for each in self._met],
                )
                for family in Family
                if (families == family).any()
            }
            self._columns = families, words
        return self._columns
