"""The arithmetic of wildcard masks: the smallest pattern around addresses, and the fewest patterns
that contain exactly them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from crossgate.core.model.address import Address, Family, Pattern, format_address, pattern
from crossgate.core.sets.patterns import merged

MOST_ADDRESSES = 4096
"""Up to so many addresses the fewest patterns are looked for."""
_MOST_STEPS = 200_000


def smallest_around(patterns: Sequence[Pattern]) -> Pattern:
    """Return the smallest single pattern that contains all addresses of some patterns of a
    family.
    """
    first = patterns[0]
    value, wildcard = first.value, first.wildcard
    for each in patterns[1:]:
        wildcard |= each.wildcard | (value ^ each.value)
    return Pattern(first.family, value & ~wildcard, wildcard)


def addresses_of(patterns: Iterable[Pattern]) -> Iterator[int]:
    """Yield every address of each pattern, in ascending order, by counting up its free bits."""
    for each in patterns:
        bits = [1 << shift for shift in range(each.family.bits) if each.wildcard >> shift & 1]
        for number in range(1 << len(bits)):
            yield each.value | sum(bit for shift, bit in enumerate(bits) if number >> shift & 1)


def fewest_patterns(family: Family, addresses: Iterable[int]) -> tuple[list[Pattern], bool]:
    """Return the fewest patterns that contain exactly these addresses, and whether it is proved
    that fewer cannot do it.

    The candidates are the patterns that cannot grow without taking in another address (prime
    implicants: Quine 1952, McCluskey 1956); of these a smallest cover is searched for by branch and
    bound, up to a number of steps.
    """
    wanted = frozenset(addresses)
    primes = _primes(family, wanted)
    having: dict[int, list[int]] = {address: [] for address in wanted}
    for index, prime in enumerate(primes):
        for address in addresses_of([prime]):
            having[address].append(index)
    search = _Cover(primes, having)
    chosen = search.smallest(wanted)
    return sorted((primes[index] for index in chosen), key=lambda each: each.value), search.proved


def _primes(family: Family, wanted: frozenset[int]) -> list[Pattern]:
    """Return the patterns inside a set of addresses that no larger pattern inside it contains."""
    level = {Pattern(family, address, 0) for address in wanted}
    found: list[Pattern] = []
    while level:
        larger: set[Pattern] = set()
        grown: set[Pattern] = set()
        for each in level:
            fixed = family.mask & ~each.wildcard
            # Only bits in which some address of the set differs can be freed.
            while fixed:
                bit = fixed & -fixed
                fixed ^= bit
                other = Pattern(family, each.value ^ bit, each.wildcard)
                if other in level:
                    grown.add(each)
                    larger.add(Pattern(family, each.value & ~bit, each.wildcard | bit))
        found += level - grown
        level = larger
    return found


class _Cover:
    """Searches for the fewest candidates that together contain every address."""

    def __init__(self, primes: Sequence[Pattern], having: dict[int, list[int]]) -> None:
        self.primes = primes
        self.having = having
        self.members = [frozenset(addresses_of([prime])) for prime in primes]
        self.steps = 0
        self.best: list[int] = []

    @property
    def proved(self) -> bool:
        """Whether the search was complete."""
        return self.steps <= _MOST_STEPS

    def smallest(self, wanted: frozenset[int]) -> list[int]:
        """Return the indices of the fewest candidates found."""
        self.best = self._greedy(wanted)
        self._search(wanted, [])
        return self.best

    def _greedy(self, wanted: frozenset[int]) -> list[int]:
        left, chosen = set(wanted), []
        while left:
            index = max(range(len(self.primes)), key=lambda each: len(self.members[each] & left))
            chosen.append(index)
            left -= self.members[index]
        return chosen

    def _search(self, left: frozenset[int], chosen: list[int]) -> None:
        self.steps += 1
        if self.steps > _MOST_STEPS or len(chosen) >= len(self.best):
            return
        if not left:
            self.best = list(chosen)
            return
        largest = max(
            len(self.members[index] & left) for address in left for index in self.having[address]
        )
        if len(chosen) + -(-len(left) // largest) >= len(self.best):
            return
        # The address with the fewest candidates: one of them has to be taken.
        hardest = min(left, key=lambda address: (len(self.having[address]), address))
        for index in sorted(self.having[hardest], key=lambda each: -len(self.members[each] & left)):
            self._search(left - self.members[index], [*chosen, index])


def slips(pattern: Pattern) -> list[str]:
    """Return what in a pattern is likely to be a mistake."""
    family, fixed = pattern.family, pattern.family.mask & ~pattern.wildcard
    found = []
    wildcard = format_address(family, pattern.wildcard)
    if pattern.wildcard and fixed and fixed & (fixed + 1) == 0:
        found.append(
            f"{wildcard} as a wildcard matches one address in {fixed + 1:,} of every network; "
            f"as a netmask its wildcard is {format_address(family, fixed)}"
        )
    elif not pattern.is_prefix:
        found.append(
            f"the 1 bits of {wildcard} do not stand together at the right: no prefix and no "
            "netmask says the same"
        )
    return found


def looks_like_mask(address: Address) -> bool:
    """Whether an address looks like a mask: its 1 bits stand together at one end, or are scattered
    after a first octet of 0.
    """
    value, inverted = address.value, address.value ^ address.family.mask
    top = address.value >> address.family.bits - 8
    return not value & (value + 1) or not inverted & (inverted + 1) or top == 0


def meanings(address: Address, mask: Address) -> tuple[str, str]:
    """Return how an address with a bare mask beside it is probably meant, `wild` or `mask`, and a
    description of each of the two.

    A mask whose 1 bits stand together at the left looks like a netmask, any other like a wildcard
    mask.
    """
    as_wildcard, as_netmask = (
        pattern(address.family, address.value, wildcard)
        for wildcard in (mask.value, mask.value ^ mask.family.mask)
    )
    netmask = as_netmask.is_prefix and mask.value != 0
    told = [
        f"as a {word} it means {_shortly(each)}"
        for word, each in (("netmask", as_netmask), ("wildcard", as_wildcard))
    ]
    return ("mask", ", ".join(told)) if netmask else ("wild", ", ".join(reversed(told)))


def _shortly(addresses: Pattern) -> str:
    if addresses.is_prefix:
        return str(addresses)
    return (
        f"{addresses.size:,} addresses from "
        f"{format_address(addresses.family, addresses.first)} on, scattered"
    )


def apart(patterns: Iterable[Pattern]) -> list[Pattern]:
    """Return the patterns that no other one contains, ordered by value."""
    return sorted(merged(patterns), key=lambda each: each.value)
