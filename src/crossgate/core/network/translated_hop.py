"""One hop of a packet across translations."""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.model.address import Pattern
from crossgate.core.network.paths import Crossing, Hop, Path
from crossgate.core.network.translated import Translations, not_known
from crossgate.core.network.translated_state import TranslatedState, Turn
from crossgate.core.network.way_graph import Border
from crossgate.core.network.way_graphs import WayGraphs


def at_end(path: Path, state: TranslatedState) -> Path:
    """Return a finished path; an answer is lost where some translation of its packet has not been
    undone, for then nobody expects it.
    """
    if path.arrived and state.answering is not None and state.view:
        return path._replace(failure=not_known(state))
    return path


class TranslatedHop:
    """A hop of a packet in some state: the tokens that it meets with their views, the hop as the
    translations leave it, and the state after it.
    """

    def __init__(
        self, graphs: WayGraphs, translations: Translations, state: TranslatedState, hop: Hop
    ) -> None:
        self.tokens: list[int] = []
        self.turned = False
        """Whether it goes on to another destination."""
        crossings: list[Crossing] = []
        self.hop, self.state = hop, state
        for event in graphs.tokens.events(hop):
            if isinstance(event, Border):
                turn = translations.turn(self.state, event)
                self.state = turn.state
                if turn.lost is not None or turn.device is not None:
                    self._turned(turn, crossings)
                    return
            elif isinstance(event, str):
                self.tokens.append(graphs.tokens.number(event))
            else:
                place, met = event
                seen = place if place.rulings is not None else place._replace(view=self.state.view)
                crossings.append(seen)
                if met:
                    self.tokens.append(graphs.tokens.number(seen))
        self.hop = hop._replace(crossings=tuple(crossings))

    def _turned(self, turn: Turn, crossings: list[Crossing]) -> None:
        """Cut off the part of the hop after the border at which the packet is lost or gets another
        destination.
        """
        self.turned = turn.lost is None
        self.hop = Hop(tuple(crossings), turn.device, not self.turned, turn.lost)


def chosen_from(pool: tuple[Pattern, ...], value: int) -> Iterator[int]:
    """Yield the addresses that a translation may have chosen for `value`; `value` itself where none
    did.
    """
    if not pool:
        yield value
    for each in pool:
        yield from range(each.first, each.last + 1)
