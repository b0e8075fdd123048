"""Who sends to whom: the machines of address classes as a small number of flows, each treated alike
on its way there and back.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Hashable, Iterable, Iterator, Sequence
from typing import NamedTuple, TypeVar

from crossgate.core.model.address import Pattern
from crossgate.core.network.address_classes import AddressClass
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.ways import Network, Ways
from crossgate.core.sets.addresses import AddressSet, apart
from crossgate.core.sets.patterns import PatternIndex
from crossgate.core.sets.region import ALL_WHAT, Region
from crossgate.core.sets.spans import Spans

_Kind = TypeVar("_Kind", bound=Hashable)


class Flow(NamedTuple):
    """All that the machines of some address classes send to those of others: from any of `senders`
    to any of `receivers`.

    Of these the `hidden` addresses belong to other flows, and are included only because the rest is
    then written in fewer words. `ways` are the ways there and back that meet different lists. Where
    addresses are translated, `others` are the equal ways on which they are translated differently,
    and the flow is only of `what` is treated alike (spans as in `sets.region`).
    """

    source: Endpoint
    destination: Endpoint
    ways: Ways
    senders: AddressSet
    receivers: AddressSet
    hidden: tuple[AddressSet, AddressSet] | None = None
    what: Spans = ALL_WHAT
    others: tuple[Ways, ...] = ()

    @property
    def every(self) -> tuple[Ways, ...]:
        """All ways of the flow, `others` included."""
        return self.ways, *self.others

    @property
    def asked(self) -> str:
        """The words for the flow in messages that tell why a question about it has no answer."""
        return f"what is sent as from {self.source.address} to {self.destination.address}"

    @property
    def on_link(self) -> bool:
        """Whether both ends are on the same link."""
        return self.source.segment == self.destination.segment and not self.ways.led

    @property
    def region(self) -> Region:
        """Every packet on the way there."""
        return Region(self.senders, self.receivers, self.what)


def flows(
    network: Network,
    senders: Sequence[AddressClass],
    receivers: Sequence[AddressClass],
    source: Sequence[Pattern],
    destination: Sequence[Pattern],
    hidden: Callable[[bool], Collection[Pattern]] = lambda devices: (),
    numbers: Callable[[AddressClass, AddressClass], tuple[int, int]] | None = None,
) -> list[Flow]:
    """Return what the `source` addresses of some address classes send to the `destination`
    addresses of others.

    Classes that are treated alike become one flow; addresses that are `hidden` in flows between
    devices' own addresses, or in others, are included as hidden. `numbers` returns the node numbers
    of a pair, there and back, where they are known already.
    """
    asked = PatternIndex(source), PatternIndex(destination)
    here = [
        address_class
        for address_class in senders
        if address_class.within(asked[0]) and not address_class.scoped
    ]
    far = [address_class for address_class in receivers if address_class.within(asked[1])]
    kinds: dict[tuple[Pattern, Pattern], Hashable] = {}

    def like(one: AddressClass, other: AddressClass) -> Hashable:
        key = one.pattern, other.pattern
        if key not in kinds:
            kinds[key] = likeness(
                network, one.end, other.end, numbers(one, other) if numbers else None
            )
        return kinds[key]

    ends: dict[tuple[Pattern, bool, bool], FlowEnd] = {}

    def own(
        each: AddressClass, devices: bool, sends: bool, excluded: tuple[Pattern, ...]
    ) -> FlowEnd:
        key = each.pattern, devices, sends
        if key not in ends:
            ends[key] = end_without(
                each.within(asked[0 if sends else 1]), excluded, hidden(devices)
            )
        return ends[key]

    sent: dict[tuple[Hashable, int], list[int]] = {}
    left_in = (
        merged(here, lambda one, other: all(like(one, each) == like(other, each) for each in far)),
        merged(far, lambda one, other: all(like(each, one) == like(each, other) for each in here)),
    )
    for one in left_in[0]:
        for other in left_in[1]:
            sent.setdefault((like(here[one], far[other]), one), []).append(other)
    got: dict[tuple[Hashable, tuple[int, ...]], list[int]] = {}
    for (kind, one), others in sent.items():
        got.setdefault((kind, tuple(others)), []).append(one)
    found = []
    for (_, receiving), ones in got.items():
        first, last = here[ones[0]], far[receiving[0]]
        devices = first.end.device is not None or last.end.device is not None
        sides = (
            _joined([own(here[each], devices, True, left_in[0][each]) for each in ones]),
            _joined([own(far[each], devices, False, left_in[1][each]) for each in receiving]),
        )
        if apart(sides[0].every, sides[1].every):
            known: tuple[int | None, int | None] = (None, None)
            if numbers and not network.plan.translations[first.end.address.family]:
                known = numbers(first, last)
            found += flows_of(network, first.end, last.end, sides, known)
    return found


def flows_of(
    network: Network,
    source: Endpoint,
    destination: Endpoint,
    sides: tuple[FlowEnd, FlowEnd],
    numbers: tuple[int | None, int | None],
) -> list[Flow]:
    """Return the flows from one end to another, between the addresses of both `sides`: one for each
    sort of traffic that takes the same ways. `numbers` are the nodes by addresses alone, there and
    back, where they are known.
    """
    one, other = sides
    return [
        Flow(
            source,
            destination,
            ways[0],
            one.every,
            other.every,
            _hidden(one, other),
            what,
            ways[1:],
        )
        for what, ways in network.by_service(source, destination, numbers)
    ]


def likeness(
    network: Network,
    source: Endpoint,
    destination: Endpoint,
    numbers: tuple[int, int] | None = None,
) -> Hashable:
    """Return a value that decides what becomes of conversations between two endpoints: pairs with
    equal values are treated alike.

    It consists of the graphs there and back, and of whether both are on one link. A device's own
    address is never like a machine's. `numbers` are the graphs' numbers where they are known.
    """
    graphs = network.graphs(source.address.family)
    ends = source.segment == destination.segment, source.device is None, destination.device is None
    if numbers is None:
        # Across translations the node there has the ways of the answers too.
        numbers = (
            graphs.node(source, destination.address),
            graphs.plain(destination, source.address),
        )
    return (
        ends,
        network.scope(destination.address),
        network.unanswered(source, destination.address),
        numbers,
    )


def merged(
    group: Sequence[AddressClass], same: Callable[[AddressClass, AddressClass], bool]
) -> dict[int, tuple[Pattern, ...]]:
    """Return the classes that are left when each class joins the one around it wherever `same` says
    that both are treated alike. The keys are indices in `group`, the values the patterns inside a
    class that belong to other classes.
    """
    index_of = {address_class.pattern: index for index, address_class in enumerate(group)}
    gone: set[int] = set()
    for address_class in group:
        for inner in address_class.excluded:
            if inner in index_of and same(address_class, group[index_of[inner]]):
                gone.add(index_of[inner])

    def others(index: int) -> Iterator[Pattern]:
        for inner in group[index].excluded:
            if index_of.get(inner) in gone:
                yield from others(index_of[inner])
            else:
                yield inner

    return {index: tuple(others(index)) for index in range(len(group)) if index not in gone}


def united(found: Iterable[tuple[_Kind, Flow]]) -> list[tuple[_Kind, Flow]]:
    """Return the same traffic in few flows: flows of a kind with the same senders become one, then
    those with the same receivers.

    Flows of one kind are treated alike: they take the same ways in every network that is asked.
    """
    sent: dict[tuple[object, ...], list[tuple[_Kind, Flow]]] = {}
    for kind, flow in found:
        sent.setdefault((kind, flow.what, flow.senders.patterns), []).append((kind, flow))
    got: dict[tuple[object, ...], list[tuple[_Kind, Flow]]] = {}
    for several in sent.values():
        flow = _one([each for _, each in several], 1)
        got.setdefault((several[0][0], flow.what, flow.receivers.patterns), []).append(
            (several[0][0], flow)
        )
    return [(several[0][0], _one([each for _, each in several], 0)) for several in got.values()]


class FlowEnd(NamedTuple):
    """The addresses of one end of a flow, and which of them are hidden."""

    every: AddressSet
    hidden: AddressSet


def end_without(
    patterns: Iterable[Pattern], excluded: Iterable[Pattern], hidden: Collection[Pattern] = ()
) -> FlowEnd:
    """Return the addresses of some patterns without the excluded ones; excluded addresses that are
    `hidden` stay.
    """
    inside, outside = tuple(patterns), tuple(excluded)
    family = inside[0].family
    left_out = AddressSet.of(family, (each for each in outside if each not in hidden))
    return FlowEnd(
        AddressSet.of(family, inside) - left_out,
        AddressSet.of(family, (each for each in outside if each in hidden)),
    )


def _joined(several: Sequence[FlowEnd]) -> FlowEnd:
    """Return several ends as one; an address that is hidden in one of them only is not hidden."""
    if len(several) == 1:
        return several[0]
    every = AddressSet.union([each.every for each in several])
    return FlowEnd(every, every - AddressSet.union([each.every - each.hidden for each in several]))


def _hidden(source: FlowEnd, destination: FlowEnd) -> tuple[AddressSet, AddressSet] | None:
    return (source.hidden, destination.hidden) if source.hidden or destination.hidden else None


def _one(several: Sequence[Flow], side: int) -> Flow:
    """Return as one flow several that differ only in their senders (side 0) or only in their
    receivers (side 1).
    """
    sides = [
        _joined([_side(each, nth) for each in several]) if nth == side else _side(several[0], nth)
        for nth in (0, 1)
    ]
    return several[0]._replace(
        senders=sides[0].every, receivers=sides[1].every, hidden=_hidden(*sides)
    )


def _side(flow: Flow, side: int) -> FlowEnd:
    every = flow.receivers if side else flow.senders
    return FlowEnd(
        every, AddressSet.of(every.family, ()) if flow.hidden is None else flow.hidden[side]
    )
