"""The entries that permit what was seen and no more: conversations grouped where they differ in one
respect.

1. Conversations that were answered, by more than a refusal, count by who opened them, to whom, for
which service. What nobody answered, such as a scan, is left out unless all is wanted.

2. Two groups are joined as long as they agree in two of sources, destinations and services; each
group is a product all of which was seen.

3. A group is written as entries, one for each name or range of its ends. A name of the plan is used
where it stands for exactly the set.

4. Where room is given, groups of the same services become one, and several words at an end become
the smallest name, prefix or range around them, as long as no more than that part of an entry was
not seen.

5. Where headroom is given, each entry except those for answers gets the `at most` that its busiest
minute needs, increased by the headroom.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

import numpy as np

from crossgate.core.answers.distilled_groups import Counts, loosened, rounded_up
from crossgate.core.answers.entry_words import EndWord, EntryWords
from crossgate.core.answers.groups import MOST_GROUPS, FlowGroup, Kind, Term, grouped
from crossgate.core.model import iana
from crossgate.core.model.address import (
    Family,
)
from crossgate.core.model.entry import MOST_NUMBER
from crossgate.core.model.packet import ACK, PORT_PROTOCOLS, SYN, TCP, Packet, icmp_of
from crossgate.core.model.packets import PORTED, Indices, Packets, whole_address
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.seen import SECOND, Seen

_MINUTE = 60 * SECOND
_LOTS, _MOST_AT_ONCE = 16, 1 << 32
"""In so many lots at most the packets of a record are spread over its time; a record that says that
there were more packets than these is not believed.
"""
_RST = iana.FLAGS["RST"]


Sightings = Mapping[Kind, Sequence[Kind]]
"""As what conversations of each kind, or their answers, come by a list, both told from the opener
on; as nothing where they do not.
"""


class Distilled(NamedTuple):
    """An entry without its number, how many conversations it stands for, and which part of its
    addresses was not seen (0 to 1).

    `busiest` is how much of what `at most` counts came in the busiest 60 seconds, where the entry
    has an `at most`.
    """

    text: str
    conversations: int
    unseen: float
    busiest: int | None = None


class _Entry(NamedTuple):
    """An entry, what it permits, and the kinds of conversations that it is meant for: source,
    destination and term.
    """

    distilled: Distilled
    source: EndWord
    destination: EndWord
    terms: frozenset[Term]
    keys: tuple[Kind, ...]

    def permits(self, key: Kind) -> bool:
        """Whether it permits conversations of a kind."""
        source, destination, term = key
        ends = (self.source, source), (self.destination, destination)
        return term in self.terms and all(
            any(each.contains(value) for each in word.patterns) for word, value in ends
        )


class Distiller:
    """Collects conversations of one family, and finds the entries that permit them."""

    def __init__(self, plan: Plan, family: Family) -> None:
        self.plan, self.family = plan, family
        self._words = EntryWords(plan, family)
        self._counts: dict[Kind, int] = {}
        self._times: dict[Kind, list[Indices]] = {}
        """By kind, times and how much came then, with the shape (2, times)."""
        self._client_ports = plan.client_ports
        self.unanswered = 0
        """How many conversations were left out, since nobody answered."""
        self.rare = 0
        """How many were left out, since they were seen too seldom."""

    def add(self, seen: Seen, every: bool = False) -> None:
        """Collect conversations; with `every`, also those that nobody answered."""
        packets = seen.packets
        refused = (
            (packets.protocol == TCP) & (seen.flags[1] & _RST != 0) & (seen.flags[1] & SYN == 0)
        )
        answered = (seen.counts[1] > 0) & ~refused
        self.unanswered += 0 if every else int((~answered).sum())
        rows = np.arange(len(seen)) if every else np.flatnonzero(answered)
        if not len(rows):
            return
        chosen = packets.take(rows)
        kinds, of_row = self._kinds_in(chosen)
        for key, count in zip(kinds, np.bincount(of_row).tolist(), strict=True):
            self._counts[key] = self._counts.get(key, 0) + count
        low, high = self._client_ports
        clients = chosen.source_port[PORTED[chosen.protocol] & ~chosen.fragment]
        if len(clients):
            self._client_ports = min(low, int(clients.min())), max(high, int(clients.max()))

    def _kinds_in(self, packets: Packets) -> tuple[list[Kind], Indices]:
        """Return the kinds of conversations that some packets open, and the number of each packet's
        kind.
        """
        numbered = (
            PORTED[packets.protocol] | (packets.protocol == icmp_of(self.family))
        ) & ~packets.fragment
        number = np.where(numbered, packets.destination_port.astype(np.int64), -1)
        columns = [
            *packets.source.view(np.int64),
            *packets.destination.view(np.int64),
            packets.protocol,
            number,
            packets.fragment,
        ]
        table = np.stack([each.astype(np.int64) for each in columns], axis=1)
        _, first, inverse = np.unique(table, axis=0, return_index=True, return_inverse=True)
        kinds = []
        for place in first.tolist():
            own = int(number[place])
            term = Term(
                int(packets.protocol[place]),
                None if own < 0 else own,
                bool(packets.fragment[place]),
            )
            kinds.append(
                (
                    whole_address(packets.source[:, place]),
                    whole_address(packets.destination[:, place]),
                    term,
                )
            )
        return kinds, inverse.reshape(-1)

    def add_times(self, seen: Seen, flows: bool) -> None:
        """Collect the times of what an `at most` counts: TCP segments with SYN and without ACK, and
        every packet of other protocols.

        `seen` are packets, or records of `flows`, as `opened` returns them; the packets of a record
        are taken to be spread evenly over its time, in a few lots.
        """
        packets = seen.packets
        tcp = (packets.protocol == TCP) & ~packets.fragment
        opens = tcp if flows else tcp & (seen.flags[0] & (SYN | ACK) == SYN)
        counts = np.where(tcp, opens & (seen.counts[0] > 0), seen.counts[0]).astype(np.int64)
        rows = np.flatnonzero(counts)
        if not len(rows):
            return
        kinds, of_row = self._kinds_in(packets.take(rows))
        counts, first = np.minimum(counts[rows], _MOST_AT_ONCE), seen.first[rows]
        lots = np.minimum(counts, _LOTS)
        row = np.repeat(np.arange(len(rows)), lots)
        nth = np.arange(len(row)) - np.repeat(np.cumsum(lots) - lots, lots)
        steps = np.maximum(lots - 1, 1)
        times = first[row] + ((seen.last[rows] - first) // steps)[row] * nth
        sizes = counts[row] // lots[row] + (nth < counts[row] % lots[row])
        order = np.argsort(of_row[row], kind="stable")
        ends = np.cumsum(np.bincount(of_row[row], minlength=len(kinds)))[:-1]
        parts = np.split(np.stack((times, sizes))[:, order], ends, axis=1)
        for kind, own in zip(kinds, parts, strict=True):
            self._times.setdefault(kind, []).append(own)

    def leave_out_rare(self, least: int) -> None:
        """Leave out the kinds of conversations that were seen fewer than `least` times."""
        for kind in [kind for kind, count in self._counts.items() if count < least]:
            self.rare += self._counts.pop(kind)
            self._times.pop(kind, None)

    @property
    def kinds(self) -> list[Kind]:
        """The kinds of conversations that count, with the number of conversations of each."""
        return list(self._counts)

    def kinds_seen(self, least: int) -> int:
        """Return how many kinds of conversations were seen at least `least` times."""
        return sum(each >= least for each in self._counts.values())

    def opening(self, kind: Kind) -> Packet:
        """Return a packet that opens conversations of a kind."""
        return self._packet(*kind, self._client_ports[0])

    def see_client_ports(self, first: int, last: int) -> None:
        """Set the range of source ports that openers use, as the list sees them."""
        low, high = self._client_ports
        self._client_ports = min(low, first), max(high, last)

    def entries(
        self,
        room: float = 0,
        there: Sightings | None = None,
        back: Sightings | None = None,
        headroom: float | None = None,
    ) -> list[Distilled]:
        """Return the entries, those for the most conversations first.

        `room` is the part of each entry that may be unseen, `headroom` the part by which limits
        exceed what was seen, None for no limits. `there` and `back` return how the packets and the
        answers of each kind of conversation look at the list; without them, openings are taken as
        they were seen, and answers are left out. Raises `NoPattern`.
        """
        counts = self._wanted(there, back)
        found: list[_Entry] = []
        for kind in dict.fromkeys((term.fragment, term.reply) for _, _, term in counts):
            keys = [key for key in counts if (key[2].fragment, key[2].reply) == kind]
            for group, parts in loosened(grouped(keys, MOST_GROUPS), counts, room):
                written = self._split(group, counts, room)
                if written is None:  # what was put together does not fit into words; its parts do
                    found += [each for part in parts for each in self._split(part, counts, 0) or ()]
                else:
                    found += written
        needed = [
            distilled
            if headroom is None
            else self._limited(distilled, self._busiest(keys, there), headroom)
            for distilled, keys in _needed(found, counts)
        ]
        return sorted(needed, key=lambda each: (-each.conversations, each.text))

    def _busiest(self, keys: Iterable[Kind], there: Sightings | None) -> int | None:
        """Return how much of some conversations, as the list sees them, came in the busiest 60
        seconds; None for answers, and where no times are known.
        """
        wanted = {key for key in keys if not key[2].reply}
        times = [
            part
            for kind, parts in self._times.items()
            if not wanted.isdisjoint((kind,) if there is None else there.get(kind, ()))
            for part in parts
        ]
        if not times:
            return None
        every, sizes = np.concatenate(times, axis=1)
        order = np.argsort(every, kind="stable")
        every, sums = every[order], np.concatenate(([0], np.cumsum(sizes[order])))
        reached = np.searchsorted(every, every + _MINUTE, side="left")
        return int((sums[reached] - sums[:-1]).max())

    @staticmethod
    def _limited(distilled: Distilled, busiest: int | None, headroom: float) -> Distilled:
        """Return an entry with the limit that its busiest minute needs."""
        if busiest is None:
            return distilled
        most = min(rounded_up(busiest * (1 + headroom)), MOST_NUMBER)
        return distilled._replace(text=f"{distilled.text} at most {most} a minute", busiest=busiest)

    def _wanted(
        self,
        there: Sightings | None,
        back: Sightings | None,
    ) -> Counts:
        """Return the packets that the list is to permit; see `entries`."""
        counts: dict[Kind, int] = {}
        for kind, count in self._counts.items():
            for number, own in enumerate((kind,) if there is None else there[kind]):
                counts[own] = counts.get(own, 0) + (0 if number else count)
            if back is not None and self._answers(kind[2]):
                for number, (source, destination, term) in enumerate(back[kind]):
                    own = destination, source, term._replace(reply=True)
                    counts[own] = counts.get(own, 0) + (0 if number else count)
        return counts

    def packets(
        self,
        there: Sightings | None,
        back: Sightings | None,
    ) -> Iterator[Packet]:
        """Yield a packet of each kind that the entries must permit, from the first and from the
        last port that clients use; see `entries`.
        """
        for source, destination, term in self._wanted(there, back):
            for client in (
                self._client_ports
                if term.protocol in PORT_PROTOCOLS and not term.fragment
                else (None,)
            ):
                yield self._packet(source, destination, term, client)

    def _packet(self, source: int, destination: int, term: Term, client: int | None) -> Packet:
        packet = Packet(self.family, source, destination, term.protocol, fragment=term.fragment)
        if term.fragment or term.number is None:
            return packet
        if term.protocol in PORT_PROTOCOLS:
            ports = (term.number, client) if term.reply else (client, term.number)
            flags = None if term.protocol != TCP else SYN | ACK if term.reply else SYN
            return packet._replace(source_port=ports[0], destination_port=ports[1], flags=flags)
        kind, code = (
            (iana.ANSWERED[term.protocol][term.number >> 8], 0)
            if term.reply
            else (term.number >> 8, term.number & 255)
        )
        return packet._replace(icmp_type=kind, icmp_code=code)

    def _answers(self, term: Term) -> bool:
        icmp = term.protocol == icmp_of(self.family) and term.number is not None
        return not term.fragment and (
            not icmp or (term.number or 0) >> 8 in iana.ANSWERED[icmp_of(self.family)]
        )

    def _split(self, group: FlowGroup, counts: Counts, room: float) -> list[_Entry] | None:
        """Write a group as entries, each word for sources with each word for destinations; None
        where an entry has more unseen addresses than allowed.
        """
        sources, destinations = (
            self._words.for_exactly(group.sources),
            self._words.for_exactly(group.destinations),
        )
        ways = [(sources, destinations)]
        if room:
            wide = [[self._words.around(group.sources)], [self._words.around(group.destinations)]]
            ways += [(wide[0], destinations), (sources, wide[1]), (wide[0], wide[1])]
        for one, other in sorted(ways, key=lambda way: len(way[0]) * len(way[1])):
            written = [
                each
                for source in one
                for destination in other
                if (each := self._entry(group, source, destination, counts))
            ]
            if all(each.distilled.unseen <= room for each in written):
                return written
        return None

    def _entry(
        self, group: FlowGroup, source: EndWord, destination: EndWord, counts: Counts
    ) -> _Entry | None:
        """Return the entry for a word for sources and one for destinations; None where nothing of
        it was seen.
        """
        seen = tuple(
            (one, other, term)
            for one in source.members
            for other in destination.members
            for term in group.terms
            if (one, other, term) in counts
        )
        if not seen:
            return None
        service, tail = self._words.service(group.terms, self._client_ports)
        unseen = 1 - len(seen) / (source.size * destination.size * len(group.terms))
        text = f"permit {service} {source.text} to {destination.text}{tail}"
        return _Entry(
            Distilled(text, sum(counts[each] for each in seen), unseen),
            source,
            destination,
            group.terms,
            seen,
        )


def _needed(entries: Sequence[_Entry], counts: Counts) -> list[tuple[Distilled, list[Kind]]]:
    """Return the entries without those whose conversations others permit, such as one that names a
    whole subnet; their counts go to those others. With each entry go the kinds that it is meant
    for.
    """
    left = [(each, list(each.keys)) for each in entries]
    wide = [each for each in left if each[0].source.is_wide or each[0].destination.is_wide]
    for one in tuple(left) if wide else ():
        takers = [
            next((each for each in wide if each is not one and each[0].permits(key)), None)
            for key in one[1]
        ]
        found = [each for each in takers if each is not None]
        if len(found) == len(takers):
            left.remove(one)
            wide = [each for each in wide if each is not one]
            for taker, key in zip(found, one[1], strict=True):
                taker[1].append(key)
    return [
        (entry.distilled._replace(conversations=sum(counts[key] for key in keys)), keys)
        for entry, keys in left
    ]
