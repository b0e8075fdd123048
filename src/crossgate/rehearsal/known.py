"""The running conversations that the network between the machines knows."""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.network.paths import Endpoint
from crossgate.rehearsal.frames import Read
from crossgate.rehearsal.running import Ports, Running

_MOST_KNOWN = 262_144
"""So many ends of conversations are known at most; those beyond have no answers."""
_Key = tuple[int, ...]
"""The protocol, addresses and ports of a packet (`Read.key`)."""


def name_of(end: Endpoint) -> str:
    """Return the name of the machine that sends from an end."""
    return end.device or end.name


class KnownConversations:
    """Conversations by the packets that their two ends send, and the `ports` that translations have
    chosen for them.
    """

    def __init__(self) -> None:
        self.ports = Ports()
        self._sent: dict[tuple[str, _Key], tuple[Running, bool]] = {}
        self._swept = -1.0

    def every(self) -> set[Running]:
        """Return all conversations."""
        return {running for running, _ in self._sent.values()}

    def by_key(self, machine: str, key: _Key) -> tuple[Running, bool] | None:
        """Return the conversation to which a machine's packets with a key belong, and whether they
        are its answers; None where there is none.
        """
        return self._sent.get((machine, key))

    def of_packet(self, machine: str, read: Read, now: float) -> tuple[Running, bool] | None:
        """Return the same for a packet; a conversation that is over by now, or that the packet
        begins again, is forgotten.
        """
        found = self.by_key(machine, read.key)
        if found is None:
            return None
        running, returns = found
        if running.is_over(now) or (not returns and running.begins_again(read)):
            self.forget(running)
            return None
        return found

    def add(self, running: Running, now: float) -> None:
        """Keep a conversation, unless too many are known; those that are over are forgotten
        first.
        """
        if len(self._sent) >= _MOST_KNOWN and now - self._swept >= 1:
            self._swept = now
            for each in self.every():
                if each.is_over(now):
                    self.forget(each)
        if len(self._sent) < _MOST_KNOWN:
            for number, key in enumerate(_keys(running)):
                self._sent[key] = running, bool(number)

    def forget(self, running: Running) -> None:
        """Drop a conversation, and release what was chosen for it."""
        self.ports.give_back(running)
        for key in _keys(running):
            if key in self._sent and self._sent[key][0] is running:
                del self._sent[key]


def _keys(running: Running) -> Iterator[tuple[str, _Key]]:
    """Yield the sender and the key of what opens a conversation, and of what answers it."""
    first, (one, other) = running.first, running.numbers
    opening = first.protocol, first.source, first.destination, one, other
    yield name_of(running.origin), opening
    if running.receiver is not None:
        source, end, numbers = running.ends(True, running.there.state.view)
        yield name_of(running.receiver), (first.protocol, source, end, *numbers)
