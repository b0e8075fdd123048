"""Which conversations some words ask for: each source to each destination for each service, in each
family that they share.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from crossgate.core.answers.grid import check_services, hosts_of
from crossgate.core.conversation.opening import Conversation, conversations, service_of
from crossgate.core.model.address import Address, AddressError, looks_like_address, parse_address
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import SYN, TCP
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import FlagTest, ServiceError
from crossgate.core.network.endpoints import NoConversation, candidates, pairs
from crossgate.core.network.ways import Network
from crossgate.core.sets.meaning import BUT, WordKind, meaning_of

_MANY = (WordKind.SUBNET, WordKind.OUTSIDE, WordKind.GROUP)


class TraceWanted(NamedTuple):
    """One source, destination and service as they were named, and the conversations to trace for
    them.
    """

    source: str
    destination: str
    service: str
    conversations: tuple[Conversation, ...]


class TraceLimits(NamedTuple):
    """What limits the conversations: the client's port, claimed source addresses, one family, and
    the TCP flags of a single segment. None and empty are for no limit.
    """

    source_port: int | None = None
    claimed: Sequence[Address] = ()
    family: int | None = None
    flags: FlagTest | None = None


def ends(plan: Plan, text: str) -> list[str]:
    """Return the ends that words with commas stand for; groups, subnets and outsides stand for
    their hosts.

    Raises `PlanError` for one of these without hosts.
    """
    found: dict[str, None] = {}
    words = [text] if BUT in text else [each.strip() for each in text.split(",")]
    for word in filter(None, words):
        meaning = meaning_of(plan, word)
        if meaning is None or meaning.kind not in _MANY or looks_like_address(word):
            found[word] = None
            continue
        hosts = hosts_of(plan, [word])
        if not hosts:
            raise PlanError(
                f"{word} has no host of the plan; name an address in it, write a host line, or ask "
                "of all of it: crossgate reach FROM TO SERVICE"
            )
        found.update(dict.fromkeys(hosts))
    if not found:
        raise PlanError(f"{text!r} names no end; name a host, a device, a point or an address")
    return list(found)


def claimed_addresses(network: Network, text: str) -> list[Address]:
    """Return the source addresses to claim that words with commas stand for: addresses, names, and
    the hosts of groups.

    Raises `PlanError` for a word that is none of these.
    """
    found: dict[Address, None] = {}
    for word in ends(network.plan, text):
        if looks_like_address(word):
            try:
                found[parse_address(word)] = None
            except AddressError as error:
                raise PlanError(str(error)) from None
        else:
            found.update((each.address, None) for each in candidates(network, word))
    return list(found)


def asked(
    network: Network,
    sources: Sequence[str],
    destinations: Sequence[str],
    services: Sequence[str],
    choice: TraceLimits,
) -> list[TraceWanted]:
    """Return what to trace. Where several are asked for, pairs whose ends are one machine or share
    no family are left out.

    Raises `PlanError` where nothing is left, for a word that is no end, and for a service that has
    no meaning there or is more than one packet.
    """
    check_services(network.plan, services)
    found: list[TraceWanted] = []
    problem: PlanError | None = None
    several = len(sources) * len(destinations) > 1
    for source in sources:
        for destination in destinations:
            if several and source == destination:
                continue
            for service in services:
                try:
                    found.append(
                        TraceWanted(
                            source,
                            destination,
                            service,
                            tuple(_conversations(network, source, destination, service, choice)),
                        )
                    )
                except (NoConversation, ServiceError) as error:
                    problem = error
    if not found:
        raise problem or PlanError(f"{sources[0]} is both ends; a conversation needs two")
    return found


def _alone(conversation: Conversation, flags: FlagTest | None) -> Conversation:
    """Return a packet, or a TCP segment with the given flags that belongs to no conversation.
    Raises `PlanError` where it is not TCP, and for flags that open a conversation.
    """
    if flags is None:
        return conversation
    if conversation.first.protocol != TCP:
        raise PlanError(f"{service_of(conversation.first)} has no TCP flags; name a service of tcp")
    if flags.value == SYN:
        raise PlanError(
            "a segment with SYN and no other flag opens a conversation; leave --flags out"
        )
    return conversation._replace(first=conversation.first._replace(flags=flags.value), alone=True)


def _conversations(
    network: Network, source: str, destination: str, service: str, choice: TraceLimits
) -> Iterator[Conversation]:
    """Yield the conversations between two ends: for each family that both have, each service that
    the word stands for.
    """
    found = pairs(network, source, destination)
    chosen = [
        (start, end) for start, end in found if choice.family in (None, int(start.address.family))
    ]
    if choice.claimed:
        families = {each.family for each in choice.claimed}
        chosen = [(start, end) for start, end in chosen if start.address.family in families]
    if not chosen:
        labels = (
            " or ".join(dict.fromkeys(each.family.label for each in choice.claimed))
            or f"IPv{choice.family}"
        )
        raise NoConversation(f"{source} and {destination} do not both have {labels} addresses")
    problems = []
    for start, end in chosen:
        try:
            wanted = network.plan.service(service, start.address.family)
        except ServiceError as error:
            problems.append(error)
            continue
        own: list[int | None] = [
            each.value for each in choice.claimed if each.family is start.address.family
        ]
        for claimed in own or [None]:
            yield from (
                _alone(each, choice.flags)
                for each in conversations(wanted, start, end, choice.source_port, claimed)
            )
    if len(problems) == len(chosen):
        raise problems[0]
