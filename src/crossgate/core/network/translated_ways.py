"""What a packet can still meet from a node of the ways on, where devices translate: node by node,
together with what has happened to the packet so far (`translated.State`).

1. A place with a list is met in the view that holds there: its token is that of the place together
with the view.

2. At a border the rules are asked. A new source holds for the rest of the path. After a new
destination the path goes on as that device would send a packet to it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import cached_property
from typing import TypeVar

from crossgate.core.network.endpoints import at_address
from crossgate.core.network.nodes import Sequence, SequenceEnd
from crossgate.core.network.paths import Crossing, Endpoint
from crossgate.core.network.translated import Translations
from crossgate.core.network.translated_state import TranslatedState
from crossgate.core.network.view import View
from crossgate.core.network.way_graph import Border
from crossgate.core.network.way_graphs import WayGraphs

Key = tuple[int, TranslatedState]
"""A node, and the state of a packet there."""
_Move = tuple[tuple[int, ...], Key | None]
Found = TypeVar("Found")


class TranslatedWays(WayGraphs):
    """What packets of one family meet from any node on, in a network that translates addresses."""

    @cached_property
    def translations(self) -> Translations:
        """The translation rules of this family."""
        return Translations(self.network.plan, self.family)

    @cached_property
    def _lost(self) -> int:
        return self.nodes.ending(SequenceEnd.LOST)

    def matters(self, number: int) -> bool:
        """Whether some sequence of a node crosses a border of translations."""
        if number not in self._bordered:
            for each in self.nodes.below(number):
                if each not in self._bordered:
                    self._bordered[each] = any(
                        isinstance(self.tokens.of[token], Border) or self._bordered[child]
                        for token, child in self.nodes.of[each].children
                    )
        return self._bordered[number]

    @cached_property
    def _bordered(self) -> dict[int, bool]:
        return {}

    def _moves(self, key: Key) -> Iterator[_Move]:
        """Yield what the packet meets next and what follows after it; None where the packet is
        lost.
        """
        number, state = key
        for token, child in self.nodes.of[number].children:
            place = self.tokens.of[token]
            if not isinstance(place, Border):
                yield (self._seen(token, state.view),), (child, state)
                continue
            turn = self.translations.turn(state, place)
            if turn.lost is not None:
                yield (), None
            elif turn.device is not None:
                onward = self._onward(turn.device, turn.state.destination)
                yield (), (onward, turn.state)
            else:
                yield (), (child, turn.state)

    def _seen(self, token: int, view: View) -> int:
        """Return the token of a place together with the view in which it sees packets."""
        place = self.tokens.of[token]
        if not view or not isinstance(place, Crossing) or place.rulings is not None:
            return token
        return self.tokens.number(place._replace(view=view))

    def there(self, start: Key) -> dict[TranslatedState | None, int]:
        """Return the ways that a packet can still take, by the state in which it arrives; None
        stands for packets that are lost.
        """

        def alike(key: Key) -> dict[TranslatedState | None, int]:
            return {key[1] if self.arrives(key[0]) else None: key[0]}

        def gathered(key: Key, moves: list[_Move]) -> dict[TranslatedState | None, int]:
            found: dict[TranslatedState | None, set[int]] = {}
            for end in self.nodes.of[key[0]].ends:
                assert isinstance(end, SequenceEnd)  # ends at devices are those of columns
                found.setdefault(key[1] if end is SequenceEnd.ARRIVED else None, set()).add(
                    self.nodes.ending(end)
                )
            for tokens, following in moves:
                for end_state, node in (
                    {None: self._lost} if following is None else self._arrivals[following]
                ).items():
                    found.setdefault(end_state, set()).add(self.nodes.prepend(tokens, node))
            return {each: self.nodes.union(frozenset(own)) for each, own in found.items()}

        return self._worked_out(start, self._arrivals, alike, gathered)

    @cached_property
    def _arrivals(self) -> dict[Key, dict[TranslatedState | None, int]]:
        return {}

    def back(self, start: Key) -> int:
        """Return the ways that an answer can still take; it arrives only where every translation of
        its packet has been undone.
        """

        def gathered(key: Key, moves: list[_Move]) -> int:
            found = {
                self.nodes.ending(
                    SequenceEnd.ARRIVED
                    if end is SequenceEnd.ARRIVED and not key[1].view
                    else SequenceEnd.LOST
                )
                for end in self.nodes.of[key[0]].ends
            }
            found |= {
                self.nodes.prepend(
                    tokens, self._lost if following is None else self._answers[following]
                )
                for tokens, following in moves
            }
            return self.nodes.union(frozenset(found))

        return self._worked_out(start, self._answers, lambda key: key[0], gathered)

    @cached_property
    def _answers(self) -> dict[Key, int]:
        return {}

    def _worked_out(
        self,
        start: Key,
        known: dict[Key, Found],
        alike: Callable[[Key], Found],
        gathered: Callable[[Key, list[_Move]], Found],
    ) -> Found:
        """Return the result for a packet at a node, after those of all nodes that follow:
        `gathered` from its moves, or by `alike` from the ways without translation where nothing
        more is translated.
        """
        stack = [start]
        while stack:
            key = stack[-1]
            if key in known:
                stack.pop()
                continue
            number, state = key
            if not state.view and not self.matters(number):
                known[key] = alike(key)
                continue
            moves = list(self._moves(key))
            waiting = [each for _, each in moves if each is not None and each not in known]
            if waiting:
                stack += waiting
            else:
                known[key] = gathered(key, moves)
        return known[start]

    def receiver(self, arrived: TranslatedState, destination: Endpoint) -> Endpoint:
        """Return the end that gets packets which arrived in a state."""
        if not any(each.side for each in arrived.view):
            return destination
        return at_address(self.network, arrived.destination)

    def leads_on(self, device: str, state: TranslatedState, wanted: Sequence, met: int) -> bool:
        """Whether a packet at a device can still meet the rest of a sequence; on a loop the answer
        may be true where it cannot.
        """
        destination = state.destination
        if (
            self.destinations.edges().number[device]
            in self.destinations.column(destination).turning
        ):
            return True
        return self.leads_to((self._onward(device, destination), state), wanted, met)

    def leads_to(self, key: Key, wanted: Sequence, met: int = 0) -> bool:
        """Whether a packet at a node can still meet the rest of a sequence."""
        answers = key[1].answering is not None
        for number in (self.back(key),) if answers else self.there(key).values():
            following: int | None = number
            for token in wanted.tokens[met:]:
                if following is not None:
                    following = dict(self.nodes.of[following].children).get(token)
            if following is not None and wanted.end in self.nodes.of[following].ends:
                return True
        return False
