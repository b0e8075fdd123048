"""A single packet carried by the walk: what becomes of the conversation that it opens, on all its
ways.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from copy import copy
from dataclasses import replace
from typing import NamedTuple

from crossgate.core.conversation.choices import choices
from crossgate.core.conversation.endings import Ending
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.places import Asked, Places, Walk
from crossgate.core.conversation.rules import Decision, Leg, legs_of, packet_on, script
from crossgate.core.conversation.story import FirstPaths, Paths, Trace, astray, story
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.conversation.walk import follow_whole
from crossgate.core.lists.index import ListIndex
from crossgate.core.model.accesslist import AccessList, Decider, DeciderKey
from crossgate.core.model.address import Family
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Action, Entry
from crossgate.core.model.packet import Packet
from crossgate.core.model.tls import UNSETTLED, hello_of
from crossgate.core.network.nodes import MOST_WAYS
from crossgate.core.network.view import Choice, View, packet_in
from crossgate.core.network.ways import Network, Ways
from crossgate.core.sets.effort import TooManyPieces, question


class Indexes:
    """The lists of a plan, ready to decide single packets in one state of conditions."""

    def __init__(self, state: State) -> None:
        self.state = state
        self._indexes: dict[AccessList, tuple[ListIndex, list[ListIndex]]] = {}
        self._choices: dict[Asked, tuple[Choice, ...]] = {}

    def choices(self, access_list: AccessList, view: View) -> tuple[Choice, ...]:
        """Return the addresses and ports that a translation may have chosen in a view: one for each
        sort that a list treats differently.
        """
        key = access_list, view
        if key not in self._choices:
            self._choices[key] = choices(access_list, view)
        return self._choices[key]

    def of(self, access_list: AccessList) -> tuple[ListIndex, list[ListIndex]]:
        """Return the index of a list in this state, and those in the other states that a
        conversation may still settle in.
        """
        found = self._indexes.get(access_list)
        if found is None:
            others = access_list.undecided(self.state) if access_list.tls else ()
            found = self._indexes[access_list] = (
                ListIndex(access_list, self.state),
                [ListIndex(access_list, each) for each in others],
            )
        return found

    def decision(self, access_list: AccessList, packet: Packet) -> Decision:
        """Return what a list decides about a packet; a packet that it denies, but would permit with
        another TLS version, passes until the version is settled.
        """
        index, undecided = self.of(access_list)
        decider = index.decide(packet)
        if not decider.permits:
            for other in undecided:
                by = other.decide(packet)
                if by.permits:
                    return Decision(by, True, decider)
            return Decision(decider, False)
        return Decision(decider, True)


class IndexesWithout(Indexes):
    """The lists of a plan with one line left out; an otherwise line is reversed instead."""

    def __init__(self, whole: Indexes, line: Decider) -> None:
        super().__init__(whole.state)
        self._whole, self._line = whole, line.key

    def decision(self, access_list: AccessList, packet: Packet) -> Decision:
        """Return what a list decides about a packet when the line is left out."""
        found = self._whole.decision(access_list, packet)
        line = found.decider
        if line.key != self._line:
            return found
        if isinstance(line.entry, Entry):
            later = self._whole.of(access_list)[0].decide_after(packet, line.entry)
            return Decision(later, later.permits)
        opposite = Action.DENY if line.permits else Action.PERMIT
        otherwise = access_list.otherwise._replace(action=opposite)
        turned = Decider(replace(access_list, otherwise=otherwise), None)
        return Decision(turned, turned.permits)


def least(decisions: Iterable[Decision]) -> Decision:
    """Return the first decision that denies, or else the first with a line that is due later, or
    else the first.
    """
    found: Decision | None = None
    for each in decisions:
        if not each.permits:
            return each
        if found is None or (found.due is None and each.due is not None):
            found = each
    assert found is not None  # there is always something to decide about
    return found


class OnePacket:
    """Carries the packet that opens a conversation through the walk; it cannot be divided, so its
    part is None.
    """

    def __init__(self, indexes: Indexes, first: Packet, answer: int | None) -> None:
        self._indexes, self._first, self._answer = indexes, first, answer
        self._packets: dict[Leg, Packet] = {}

    def packet(self, leg: Leg) -> Packet:
        """Return the packet of a leg."""
        found = self._packets.get(leg)
        if found is None:
            found = self._packets[leg] = packet_on(self._first, leg, self._answer)
        return found

    def decide(self, part: None, leg: Leg, asked: Asked) -> list[tuple[None, Decision]]:
        """Return what a list decides about the packet of a leg as the list sees it; where a
        translation may choose, the least favourable decision over all choices.
        """
        access_list, view = asked
        if not view:
            return [(None, self._indexes.decision(access_list, self.packet(leg)))]
        return [(None, least(self._viewed(leg, access_list, view)))]

    def _viewed(self, leg: Leg, access_list: AccessList, view: View) -> Iterator[Decision]:
        for choice in self._indexes.choices(access_list, view) or (None,):
            seen = packet_on(packet_in(view, self._first, choice), leg, self._answer)
            yield self._indexes.decision(access_list, seen)


class Fate(NamedTuple):
    """The result of a conversation without its story: the verdict on its first way, the line that
    stopped it, and whether all ways agree.
    """

    verdict: Verdict
    stopped: Decider | None
    agreed: bool = True


class Tracer:
    """Traces conversations through one network in one `state` of its conditions."""

    def __init__(self, network: Network, state: State = frozenset()) -> None:
        self.network = network
        self.state = state
        self._indexes = Indexes(state)
        self._places = {family: Places(network, family) for family in Family}
        self._met: FirstPaths = {}
        hello = hello_of(state)
        self._asks: bool = network.plan.asks_for_tls and hello != UNSETTLED
        self._speaks: bool = hello is not None

    def trace(self, conversation: Conversation) -> Trace:
        """Trace a conversation along the first of the equally good paths, and see whether it gets
        the same verdict on the others.
        """
        endings, paths = self.endings(conversation), Paths(self.network, conversation, self._met)
        first = endings[0]
        other = next((each for each in endings if each.verdict is not first.verdict), None)
        differing = None if other is None else story(paths, other)
        return story(paths, first)._replace(
            ways=sum(each.number for each in endings), differing=differing
        )

    def examples(self, conversation: Conversation, by: DeciderKey | None = None) -> list[Trace]:
        """Trace a conversation along the first way, and then once for each other ending, on ways
        without the line `by` where there are such.
        """
        endings, paths = (
            self.endings(conversation, by=by),
            Paths(self.network, conversation, self._met),
        )
        return _compared(
            [story(paths, each) for each in endings], sum(each.number for each in endings)
        )

    def alternatives(self, conversation: Conversation) -> list[Trace]:
        """Trace a conversation along every way there and back that meets different lists, the first
        one first. Raises `TooManyPieces` when there are too many.
        """
        several, every = self.ways(conversation), list[Trace]()
        graphs, paths = (
            self.network.graphs(conversation.first.family),
            Paths(self.network, conversation, self._met, alone=True),
        )
        few = max(max(each.there.count, each.back.count) for each in several) <= MOST_WAYS
        for ways in several if few else ():
            for there in ways.there.sequences:
                for back in ways.back.sequences if len(every) <= MOST_WAYS else ():
                    alone = ways.alone(graphs.alone(there), graphs.alone(back))
                    (ending,) = self.endings(conversation, (alone,))
                    every.append(story(paths, ending))
                    if ending.example is None or not ending.example.returned:
                        break
        if not few or len(every) > MOST_WAYS:
            raise TooManyPieces(
                f"more than {MOST_WAYS:,} ways meet different lists there, which are not shown "
                "one by one; without --all-paths they are "
                "followed together"
            )
        return _compared(every, len(every))

    def fate(self, conversation: Conversation, ways: Sequence[Ways]) -> Fate:
        """Return the verdict of `trace` for a conversation, given its ways, without its story."""
        endings = self.endings(conversation, ways)
        first = endings[0]
        agreed = len(endings) == 1 or all(each.verdict is first.verdict for each in endings)
        return Fate(first.verdict, None if first.stop is None else first.stop.decider, agreed)

    def without(self, line: Decider) -> Tracer:
        """Return a tracer for which one line is left out of its list; an otherwise line is reversed
        instead.
        """
        other = copy(self)
        other._indexes = IndexesWithout(self._indexes, line)
        return other

    def endings(
        self,
        conversation: Conversation,
        ways: Sequence[Ways] = (),
        by: DeciderKey | None = None,
    ) -> list[Ending]:
        """Return how a conversation ends on its ways, or on some of them where these are given;
        `by` is the line that endings report on.
        """
        strays = conversation.claimed is not None and astray(self.network, conversation) is not None
        return self.endings_of(
            conversation.first,
            conversation.on_link,
            ways or self.ways(conversation),
            strays,
            by,
            conversation.alone,
        )

    def endings_of(
        self,
        first: Packet,
        on_link: bool,
        ways: Sequence[Ways],
        strays: bool,
        by: DeciderKey | None = None,
        alone: bool = False,
    ) -> list[Ending]:
        """Return how the conversation that a packet opens ends on some ways.

        `on_link` is for machines of one link; with `strays` the answers go to another machine; `by`
        is the line that endings report on. A packet sent `alone` opens no conversation.
        """
        if len(ways) == 1:
            return self._followed(first, on_link, ways[0], strays, by, alone)
        found = list[Ending]()
        for each in ways:  # the first way of all is one of the first ones
            endings = self._followed(first, on_link, each, strays, by, alone)
            found += [one._replace(first=one.first and not found) for one in endings]
        return found

    def _followed(
        self,
        first: Packet,
        on_link: bool,
        ways: Ways,
        strays: bool,
        by: DeciderKey | None,
        alone: bool,
    ) -> list[Ending]:
        legs, answer = legs_of(first, on_link and not ways.led, alone)
        speaks = (
            self._speaks if self._asks and self.network.asks_for_tls(ways, first.family) else None
        )
        walk = Walk(self._places[first.family], ways, script(legs, speaks, ways.unanswered, strays))
        carried = OnePacket(self._indexes, first, answer)
        if ways.count == 1:
            return follow_whole(walk, carried, None, by)
        with question("what becomes of one packet on all its equal ways"):
            return follow_whole(walk, carried, None, by)

    def ways(self, conversation: Conversation) -> tuple[Ways, ...]:
        """Return all ways of a conversation, those of the first path first; its answers go to the
        address that it claims.
        """
        return self.network.of_packet(
            conversation.source, conversation.destination, conversation.first
        )


def _compared(every: list[Trace], ways: int) -> list[Trace]:
    """Return traces on some of `every` ways, each with the first of them that ends differently."""
    return [
        each._replace(
            ways=ways,
            differing=next((other for other in every if other.verdict is not each.verdict), None),
        )
        for each in every
    ]
