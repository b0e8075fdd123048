"""Address classes: sets of addresses that the network treats alike, as senders and as receivers.

Where a packet goes depends on its sender's subnet and on its destination, and most machines of a
subnet are alike in both. These are different, and each is a class of its own: the interfaces of
devices, hosts with a port, a gateway or a list of their own, destinations that have a static route
of their own, and addresses that nothing is routed to (`scope`). What is left of a subnet or of an
outside is one more class.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from crossgate.core.model.address import Address, Family, Pattern, everything, single
from crossgate.core.model.errors import PlanError
from crossgate.core.model.scope import scoped_blocks
from crossgate.core.network.endpoints import EndpointSet, at_address
from crossgate.core.network.forwarding import Forwarding
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.translated import told_apart
from crossgate.core.sets.patterns import PatternIndex, common


class AddressClass(NamedTuple):
    """The addresses of `pattern` except those in any of `excluded`; `end` is one of them and
    represents them all.

    Nothing is routed to a `scoped` class, and no set of machines contains it. The addresses of a
    `public` class belong to no machine: a translation puts them in the place of others.
    """

    end: Endpoint
    pattern: Pattern
    excluded: tuple[Pattern, ...]
    scoped: bool = False
    public: Pattern | None = None

    def within(self, patterns: PatternIndex) -> list[Pattern]:
        """Return the parts of the class's own pattern that lie in any of the given patterns."""
        parts = (common(self.pattern, each) for each in patterns.overlapping(self.pattern))
        return [part for part in parts if part is not None]


class AddressClasses(list[AddressClass]):
    """The address classes of a network in one family, each before those inside it, with the search
    for the classes that share addresses with a pattern.
    """

    def __init__(self, classes: Iterable[AddressClass]) -> None:
        super().__init__(classes)
        self._first = [each.pattern.first for each in self]
        self._around: list[int] = []
        self._asked: dict[tuple[tuple[Pattern, ...], bool], list[int]] = {}
        for index, each in enumerate(self):
            around = index - 1
            while around >= 0 and not self[around].pattern.covers(each.pattern):
                around = self._around[around]
            self._around.append(around)

    def overlapping(self, patterns: Iterable[Pattern]) -> list[int]:
        """Return the indices of the classes whose pattern shares an address with any of the given
        patterns, in order.
        """
        return self._known(tuple(patterns), every=True)

    def holding(self, patterns: Iterable[Pattern]) -> list[int]:
        """Return the indices of the classes that can contain an address of the given patterns, in
        order; a class that excludes those addresses is left out.
        """
        return self._known(tuple(patterns), every=False)

    def _known(self, patterns: tuple[Pattern, ...], every: bool) -> list[int]:
        if (patterns, every) not in self._asked:
            self._asked[patterns, every] = self._found(patterns, every)
        return self._asked[patterns, every]

    def _found(self, patterns: Iterable[Pattern], every: bool) -> list[int]:
        found: set[int] = set()
        for pattern in patterns:
            if pattern.wildcard == pattern.family.mask:
                return list(range(len(self)))
            if not pattern.is_prefix:
                found.update(
                    index for index, each in enumerate(self) if each.pattern.overlaps(pattern)
                )
                continue
            start = bisect_left(self._first, pattern.first)
            within = range(start, bisect_right(self._first, pattern.last))
            around = [index for index in within if self[index].pattern.covers(pattern)]
            found.update(index for index in within if index not in around)
            outer = start - 1
            while outer >= 0 and not self[outer].pattern.covers(pattern):
                outer = self._around[outer]
            while outer >= 0:
                around.insert(0, outer)
                outer = self._around[outer]
            # Of those around it only the innermost can have addresses of it that are not excluded.
            found.update(around if every else around[-1:])
        return sorted(found)


def boundaries(network: Forwarding, family: Family) -> set[Pattern]:
    """Return the prefixes inside which the network treats addresses differently from those around
    them; any two are nested or disjoint.
    """
    plan = network.plan
    found = set(unrouted(network, family))
    for segment in plan.segments.values():
        found.update(
            block for block in (*segment.prefixes, *segment.left_out) if block.family is family
        )
    if any(segment.outside and not segment.prefixes for segment in plan.segments.values()):
        found.add(everything(family))
    for device in plan.devices.values():
        for interface in device.interfaces.values():
            for own in interface.in_family(family):
                found.add(single(own.address))
                if plan.segments[interface.on].outside:
                    found.add(own.connected)
        found.update(
            route.destination for route in device.routes if route.destination.family is family
        )
    found.update(single(address) for address in plan.gateway_at if address.family is family)
    for host in plan.hosts_apart.values():
        found.update(single(address) for address in host.addresses if address.family is family)
    return found | told_apart(plan.translations[family], found)


def address_classes(
    network: Forwarding, family: Family, more: Iterable[Pattern] = ()
) -> AddressClasses:
    """Return the address classes of a network in one family, each before those inside it.

    Addresses are divided at the `boundaries` of the network and at those of `more`.
    """
    edges = sorted(
        {*boundaries(network, family), *more}, key=lambda each: (each.value, -each.wildcard)
    )
    inside: dict[Pattern, list[Pattern]] = {edge: [] for edge in edges}
    around: list[Pattern] = []
    for edge in edges:
        while around and not around[-1].covers(edge):
            around.pop()
        if around:
            inside[around[-1]].append(edge)
        around.append(edge)
    found = []
    for edge in edges:
        address = free_address(edge, inside[edge])
        if address is None:
            continue
        try:
            end = at_address(network, address)
        except PlanError:
            continue  # in no subnet, and there is no outside: nobody can have it
        public = next(
            (
                block
                for rule in network.plan.translations[family]
                for block in rule.public
                if block.contains(address.value) and not network.plan.is_given(address)
            ),
            None,
        )
        scoped = network.scope(address) is not None
        found.append(AddressClass(end, edge, tuple(inside[edge]), scoped, public))
    return AddressClasses(found)


def unrouted(network: Forwarding, family: Family) -> set[Pattern]:
    """Return the blocks of addresses that nothing is routed to: those that standards reserve, and
    the subnets' broadcast addresses.
    """
    broadcasts = network.plan.broadcasts if family is Family.IPV4 else {}
    return {*scoped_blocks(family), *(Pattern(family, value, 0) for value in broadcasts)}


def device_addresses(network: Forwarding) -> set[Pattern]:
    """Return every address of the plan's devices, those that several devices share included."""
    own = {
        single(address)
        for device in network.plan.devices.values()
        for address in device.addresses()
    }
    return own | {single(address) for address in network.plan.gateway_at}


def free_address(pattern: Pattern, taken: Sequence[Pattern]) -> Address | None:
    """Return an address of a prefix that is in none of the prefixes inside it; one for a machine is
    preferred to the network's own address.
    """
    start = pattern.first + (1 if pattern.size > 2 else 0)
    for value in (start, pattern.first):
        while value <= pattern.last:
            block = next((each for each in taken if each.contains(value)), None)
            if block is None:
                return Address(pattern.family, value)
            value = block.last + 1
    return None


def on_outside(found: AddressClasses, ends: EndpointSet) -> list[AddressClass]:
    """Return the classes that can contain endpoints of a set.

    An endpoint on an outside must be in a class of that outside. A scoped class counts only where
    the set names single addresses of it.
    """
    return [
        address_class
        for address_class in (found[index] for index in found.holding(ends.patterns))
        if ends.outside in (None, address_class.end.segment)
        and (
            not address_class.scoped
            or any(address_class.pattern.covers(each) for each in ends.patterns)
        )
    ]


def meant(found: AddressClasses, ends: EndpointSet) -> list[AddressClass]:
    """Return the classes that a claim about a set of endpoints is about.

    A device's own address counts only where it is named by itself: the lists on a device's
    interfaces are not asked about what the device sends, so a claim about a subnet is about its
    machines. Nor does a public address of a translation count, unless the set consists of such
    addresses.
    """
    return [
        address_class
        for address_class in on_outside(found, ends)
        if address_class.pattern.value in ends.named
        or (
            address_class.end.device is None
            and (
                address_class.public is None
                or any(address_class.public.covers(each) for each in ends.patterns)
            )
        )
    ]
