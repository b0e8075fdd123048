"""One of a packet's equally good paths, chosen at each fork: the path that a real packet takes."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from crossgate.core.model.address import Address
from crossgate.core.model.packet import Packet
from crossgate.core.network.crossed import NO_SORT, CrossedGraphs
from crossgate.core.network.paths import Endpoint, Path
from crossgate.core.network.translated_hop import TranslatedHop, at_end
from crossgate.core.network.translated_state import TranslatedState
from crossgate.core.network.view import NOT_TRANSLATED, View
from crossgate.core.network.ways import Network

Choose = Callable[[int], int]
"""Tells which of so many moves is taken, from 0 on."""


class OneWay(NamedTuple):
    """A path, and the state of the packet at its end."""

    path: Path
    state: TranslatedState


def setting_out(network: Network, packet: Packet) -> TranslatedState:
    """Return the state of the packet that opens a conversation, as its sender sends it."""
    graphs = network.graphs(packet.family)
    sort = graphs.translations.sort_of(packet) if isinstance(graphs, CrossedGraphs) else NO_SORT
    source, destination = (
        Address(packet.family, each) for each in (packet.source, packet.destination)
    )
    return TranslatedState(NOT_TRANSLATED, (source,), destination, sort)


def answering(
    network: Network, arrived: TranslatedState, receiver: Endpoint, chosen: int | None = None
) -> TranslatedState:
    """Return the state of the answer to a packet that has arrived; `chosen` is the address that a
    translation took from its pool for the sender.
    """
    graphs, state = network.graphs(receiver.address.family), arrived.answer()
    if isinstance(graphs, CrossedGraphs):
        state = graphs.translations.answered_by(arrived, receiver.device)
    if chosen is None:
        return state
    last = state.sources[-1]._replace(value=chosen)
    return state._replace(destination=last, sources=(*state.sources[:-1], last))


def seen_in(arrived: TranslatedState, view: View) -> TranslatedState:
    """Return the state of a packet as a place on its path sees it, in a view, given its state at
    the end of the path. Only what concerns its source is kept.
    """
    given = tuple(each for each in view if not each.side)
    return arrived._replace(view=given, sources=arrived.sources[: len(given) + 1])


def one_way(network: Network, origin: Endpoint, start: TranslatedState, choose: Choose) -> OneWay:
    """Return the path that a packet takes which an end sends in a state; `choose` picks the next
    move at each fork.
    """
    graphs, state = network.graphs(origin.address.family), start
    starts = network.starts(origin, state.destination)
    path, hops = starts[choose(len(starts))]
    while True:
        hop, turned = hops[choose(len(hops))], False
        if isinstance(graphs, CrossedGraphs):
            step = TranslatedHop(graphs, graphs.translations, state, hop)
            hop, state, turned = step.hop, step.state, step.turned
        # Where it goes on to another destination it may come by devices once more.
        path = network.along(path._replace(entered=()) if turned else path, hop, len(hops) > 1)
        if path.ended:
            return OneWay(at_end(path, state), state)
        hops = network.hops(path.devices[-1], state.destination)
