"""The single paths of packets of one sort between two ends across translations."""

from __future__ import annotations

from functools import cached_property
from typing import NamedTuple

from crossgate.core.model.address import Address
from crossgate.core.network.nodes import Sequence, SequenceEnd
from crossgate.core.network.paths import Endpoint, Path
from crossgate.core.network.translated_hop import TranslatedHop, at_end, chosen_from
from crossgate.core.network.translated_state import TranslatedState
from crossgate.core.network.translated_ways import TranslatedWays
from crossgate.core.network.view import NOT_TRANSLATED


class Walked(NamedTuple):
    """A path, the tokens that it meets, and the state of the packet at its end."""

    path: Path
    sequence: Sequence
    state: TranslatedState


class Trip:
    """The paths of packets of one sort between two ends, and those of their answers."""

    def __init__(
        self,
        graphs: TranslatedWays,
        origin: Endpoint,
        destination: Endpoint,
        sort: int,
        source: Address,
    ) -> None:
        self._graphs, self.origin, self.destination, self.sort = graphs, origin, destination, sort
        self.source = source
        self._back: dict[tuple[TranslatedState, Sequence | None], Walked] = {}

    @cached_property
    def first_there(self) -> Walked:
        """The first path from source to destination."""
        return self._walk(self.origin, self._start, None)

    def there(self, wanted: Sequence | None = None) -> Walked:
        """Return the first path from source to destination that meets a sequence, or the first of
        all.
        """
        if wanted in (None, self.first_there.sequence):
            return self.first_there
        return self._walk(self.origin, self._start, wanted)

    @property
    def _start(self) -> TranslatedState:
        return TranslatedState(NOT_TRANSLATED, (self.source,), self.destination.address, self.sort)

    def back(self, arrived: TranslatedState, wanted: Sequence | None = None) -> Walked:
        """Return the first path of the answer to packets that arrived in a state, or the first that
        meets a sequence.
        """
        key = arrived, wanted
        if key not in self._back:
            self._back[key] = self._walked_back(arrived, wanted)
        return self._back[key]

    def _walked_back(self, arrived: TranslatedState, wanted: Sequence | None) -> Walked:
        receiver = self._graphs.receiver(arrived, self.destination)
        answer = self._graphs.translations.answered_by(arrived, receiver.device)
        if wanted is None:
            return self._walk(receiver, answer, None)
        if self.back(arrived).sequence == wanted:
            return self.back(arrived)
        made = next((each for each in reversed(arrived.view) if not each.side), None)
        last = arrived.sources[-1]
        for value in chosen_from(made.pool if made else (), last.value):
            chosen = last._replace(value=value)
            state = answer._replace(destination=chosen, sources=(*answer.sources[:-1], chosen))
            if self._graphs.leads_to((self._graphs.plain(receiver, chosen), state), wanted):
                return self._walk(receiver, state, wanted)
        raise AssertionError("no path meets this sequence")

    def _walk(self, origin: Endpoint, start: TranslatedState, wanted: Sequence | None) -> Walked:
        graphs, network = self._graphs, self._graphs.network
        starts = network.starts(origin, start.destination)
        stack = [
            (path, graphs.begun_tokens(path), start, iter(hops), len(hops) > 1 or len(starts) > 1)
            for path, hops in reversed(starts)
        ]
        while stack:
            path, tokens, state, left, forks = stack[-1]
            hop = next(left, None)
            if hop is None:
                stack.pop()
                continue
            step = TranslatedHop(graphs, graphs.translations, state, hop)
            met = (*tokens, *step.tokens)
            if wanted is not None and wanted.tokens[: len(met)] != met:
                continue
            # Where it goes on to another destination it may come by devices once more.
            before = path._replace(entered=()) if step.turned else path
            after = network.along(before, step.hop, forks)
            if after.ended:
                after = at_end(after, step.state)
                sequence = Sequence(met, SequenceEnd.ARRIVED if after.arrived else SequenceEnd.LOST)
                if wanted in (None, sequence):
                    return Walked(after, sequence, step.state)
                continue
            device = after.devices[-1]
            if wanted is None or graphs.leads_on(device, step.state, wanted, len(met)):
                following = network.hops(device, step.state.destination)
                stack.append((after, met, step.state, iter(following), len(following) > 1))
        # What a device translates to its own address twice on one way goes round in it, where ways
        # and paths part; the first path is as good as any to be told.
        assert wanted is not None, "every packet has a path"
        return self._walk(origin, start, None)
