"""Why the entries above the deciding line did not match: for a traced conversation, or for a packet
checked against a list by itself.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.conversation.opening import Conversation, conversations
from crossgate.core.conversation.rules import Leg, legs_of, packet_on
from crossgate.core.conversation.story import CrossingStory
from crossgate.core.lists.index import ListIndex
from crossgate.core.lists.why import Passed, passed_over
from crossgate.core.model.accesslist import AccessList, ClosedPlace, Decider
from crossgate.core.model.condition import State
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import Packet
from crossgate.core.network.endpoints import pairs
from crossgate.core.network.view import packet_in
from crossgate.core.network.ways import Network


class Why(NamedTuple):
    """A packet as a list sees it, the entries that it passes, each with the field that does not
    match, and the line that decides.
    """

    packet: Packet
    passed: tuple[Passed, ...]
    decider: Decider


def why_there(
    conversation: Conversation, leg: Leg, asked: CrossingStory, state: State
) -> Why | None:
    """Return why a list that was asked on a leg of a conversation decided as it did; None where it
    has no entries.
    """
    own, decider = asked.access_list, asked.decider
    if own is None or decider is None or isinstance(own, ClosedPlace):
        return None
    packet = packet_there(conversation, leg, asked)
    return Why(packet, tuple(passed_over(own, packet, state, decider)), decider)


def packet_there(conversation: Conversation, leg: Leg, asked: CrossingStory) -> Packet:
    """Return the packet of a leg as the list that is asked about it sees it."""
    first = conversation.first
    answer = legs_of(first, conversation.on_link)[1]
    return packet_on(packet_in(asked.crossing.view, first), leg, answer)


def why_alone(network: Network, access_list: AccessList, words: str, state: State) -> list[Why]:
    """Return how a list by itself, wherever it is placed, decides about the opening packet of
    `SERVICE FROM to TO`. Raises `PlanError`.
    """
    parts = words.split()
    if len(parts) != 4 or parts[2] != "to":
        raise PlanError(f"{words!r} is no packet: write SERVICE FROM to TO, as tcp/443 a to b")
    service, one, _, other = parts
    family, index = access_list.family, ListIndex(access_list, state)
    ends = [each for each in pairs(network, one, other) if each[0].address.family is family]
    if not ends:
        raise PlanError(f"{one} and {other} do not both have {family.label} addresses")
    start, end = ends[0]
    found = []
    for each in conversations(network.plan.service(service, family), start, end):
        decider = index.decide(each.first)
        passed = passed_over(access_list, each.first, state, decider)
        found.append(Why(each.first, tuple(passed), decider))
    return found
