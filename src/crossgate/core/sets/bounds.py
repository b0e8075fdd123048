"""The place of addresses among sorted bounds, for millions of them at once."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from crossgate.core.model.address import Family
from crossgate.core.model.packets import Indices, Words, address_words


def _distinct(ascending: NDArray[np.uint64]) -> NDArray[np.uint64]:
    found: NDArray[np.uint64] = ascending[np.concatenate([[True], ascending[1:] != ascending[:-1]])]
    return found


class BoundFinder:
    """Finds, for each of many addresses, the last of some ascending bounds that is not above it;
    the first bound is 0.
    """

    def __init__(self, family: Family, bounds: Sequence[int]) -> None:
        words = address_words(family, bounds)
        self._high = _distinct(words[0])
        self._low = _distinct(np.sort(words[-1]))
        self._steps = len(self._low) + 1
        self._keys = self._key(words)

    def _key(self, words: Words) -> Indices:
        """Return a number for each address by which it is ordered among the bounds."""
        high = np.searchsorted(self._high, words[0], side="right")
        if len(words) == 1:
            return np.asarray(high, np.int64)
        low = np.searchsorted(self._low, words[1], side="right")
        low[self._high[high - 1] != words[0]] = self._steps - 1
        key: Indices = high * self._steps + low
        return key

    def places(self, words: Words) -> Indices:
        """Return the index of the bound for each address, given in words as `Packets` has them."""
        key = self._key(words)
        places: Indices = key if len(words) == 1 else np.searchsorted(self._keys, key, side="right")
        return places - 1
