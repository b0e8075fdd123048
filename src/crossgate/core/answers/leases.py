"""Whether machines get address leases: each message of the exchange as a conversation by itself.

IPv4, RFC 2131 section 4.1: a machine without an address asks its whole link from 0.0.0.0, port 68,
to 255.255.255.255, port 67; the offer is broadcast too, since the machine may not have an address
yet. A device of the subnet relays the request to a server that is elsewhere, both under port 67,
and gets the answers at its address in that subnet (RFC 1542 section 4.1). To renew its lease a
machine asks the server directly (RFC 2131 section 4.4.5).

IPv6, RFC 8415: machines send from their link-local addresses, port 546, to ff02::1:2, port 547, for
renewals too (section 18.2.4); relays and servers use port 547 (section 7.2).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.story import Trace
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Address, Family, parse_address
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Leases
from crossgate.core.model.packet import UDP, Packet
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import at_address, candidates
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.ways import Network

CLIENT, SERVER = (
    {Family.IPV4: 68, Family.IPV6: 546},
    {Family.IPV4: 67, Family.IPV6: 547},
)
"""The ports of clients, and of servers and relays, by family."""
_NOBODY = {Family.IPV4: parse_address("0.0.0.0"), Family.IPV6: parse_address("fe80::1")}
_EVERYBODY = {
    Family.IPV4: parse_address("255.255.255.255"),
    Family.IPV6: parse_address("ff02::1:2"),
}
_LINK_LOCAL = "fe80::/10"


class Message(NamedTuple):
    """A message of a lease exchange, its name, and the words by which an entry names its two ends;
    one that `renews` is for a lease that the machine has.
    """

    what: str
    conversation: Conversation
    source: str
    destination: str
    renews: bool = False


class Exchange(NamedTuple):
    """How one machine gets and renews a lease: its server, its relay, None for none, and the
    messages in order.
    """

    leases: Leases
    client: Endpoint
    server: Endpoint
    relay: Endpoint | None
    messages: tuple[Message, ...]


class Leased(NamedTuple):
    """An exchange and the traces of its messages, up to the first that does not get through."""

    exchange: Exchange
    traces: tuple[Trace, ...]

    def __repr__(self) -> str:
        return f"<Leased {self.exchange.client.name}: {self.verdict}>"

    @property
    def verdict(self) -> Verdict:
        """The verdict on the whole exchange, as on a conversation: half-open where a list denies a
        message after the first, `VARIES` where it depends on the path.
        """
        last = self.traces[-1]
        if last.differing is not None:
            return Verdict.VARIES
        later = len(self.traces) > 1 and last.verdict is Verdict.DENIED
        return Verdict.HALF_OPEN if later else last.verdict

    @property
    def stopped(self) -> Message | None:
        """The message that does not get through, None where all do."""
        if self.verdict is Verdict.PERMITTED:
            return None
        return self.exchange.messages[len(self.traces) - 1]

    @property
    def sentence(self) -> str:
        """Whether a machine gets and renews its lease, and at which message the exchange ends."""
        who, server, stopped = self.exchange.client.name, self.exchange.leases.by, self.stopped
        if stopped is None:
            return f"{who} gets a lease from {server} and can keep it"
        if stopped.renews:
            return (
                f"{who} gets a lease from {server} and cannot renew it there; it has to ask everybody "
                "again before the lease ends (RFC 2131 section 4.4.5)"
            )
        return f"{who} gets no lease from {server}: it ends at the {stopped.what}"


def clients(network: Network, leases: Leases) -> list[Endpoint]:
    """Return machines that get leases: the hosts of the plan that have one of the leased addresses,
    and one unnamed machine.
    """
    plan = network.plan
    own = [
        each
        for host in plan.hosts.values()
        if host.on == leases.on
        for each in candidates(network, host.name)
        if leases.has(each.address)
    ]
    return [*own, *_unnamed(network, leases)]


def _unnamed(network: Network, leases: Leases) -> Iterator[Endpoint]:
    address = leases.first_but(network.plan.host_of.keys())
    if address is not None:
        yield at_address(network, address)


def exchanges_of(network: Network, word: str) -> list[Exchange]:
    """Return the exchanges of a host, or of the machines of a subnet that get leases. Raises
    `PlanError` where there are none.
    """
    plan = network.plan
    on = plan.hosts[word].on if word in plan.hosts else word
    if on not in plan.segments:
        raise PlanError(f"{word} is no host and no subnet; say whose lease it is")
    found = [
        exchange
        for leases in plan.leases
        if leases.on == on
        for client in (
            clients(network, leases) if on == word else _as_client(network, leases, word)
        )
        for exchange in exchanges(network, leases, client)
    ]
    if not found:
        raise PlanError(
            f"no leases line is for {on}; write: leases RANGE on {on} by HOST or DEVICE"
        )
    return found


def _as_client(network: Network, leases: Leases, host: str) -> Iterator[Endpoint]:
    """Yield a host as it gets a lease: with its own address where that is a leased one."""
    for each in candidates(network, host):
        if each.address.family is leases.family:
            others = network.plan.host_of.keys()
            address = each.address if leases.has(each.address) else leases.first_but(others)
            yield each._replace(address=address or each.address)


def exchanges(network: Network, leases: Leases, client: Endpoint) -> Iterator[Exchange]:
    """Yield the ways in which a machine can get a lease: one for each device of its subnet that
    relays, or one where the server is on the subnet.
    """
    plan = network.plan
    server = _server(network, leases, client)
    if server.segment == leases.on:
        yield Exchange(leases, client, server, None, tuple(_directly(leases, client, server)))
        return
    up = network.on_segment.get((leases.on, leases.family), [])
    hearing = {each.device: each for each in reversed(up)}  # by one interface each
    for interface in reversed(hearing.values()):
        relay = _nearby(candidates(network, str(interface.point)), plan, leases, client)
        messages = _by_relay(leases, client, relay, server)
        yield Exchange(leases, client, server, relay, tuple(messages))


def _server(network: Network, leases: Leases, client: Endpoint) -> Endpoint:
    plan = network.plan
    if leases.by not in plan.devices:
        own = candidates(network, leases.by)
        return next(each for each in own if each.address.family is leases.family)
    own = [
        end
        for each in plan.devices[leases.by].interfaces.values()
        if each.on == leases.on and each.in_family(leases.family)
        for end in candidates(network, str(each.point))
    ]
    return _nearby(own, plan, leases, client)


def _nearby(own: list[Endpoint], plan: Plan, leases: Leases, client: Endpoint) -> Endpoint:
    """Return which of several addresses a machine uses with its leases: the one in its own prefix,
    or else the first of the family.
    """
    prefixes = [
        each
        for each in plan.segments[leases.on].prefixes
        if each.family is leases.family and each.contains(client.address.value)
    ]
    of_family = [each for each in own if each.address.family is leases.family]
    near = (
        each for each in of_family if any(block.contains(each.address.value) for block in prefixes)
    )
    return next(near, of_family[0])


def _directly(leases: Leases, client: Endpoint, server: Endpoint) -> Iterator[Message]:
    yield _asking(leases, client, server, server)
    yield _offering(leases, server, client)
    yield from _renewing(leases, client, server)


def _by_relay(
    leases: Leases, client: Endpoint, relay: Endpoint, server: Endpoint
) -> Iterator[Message]:
    yield _asking(leases, client, relay, server)
    port = SERVER[leases.family]
    handed_on = _sent(relay, server, relay.address, server.address, port, port)
    yield Message(f"handing on to {server.name}", handed_on, relay.name, server.name)
    yield _offering(leases, relay, client)
    yield from _renewing(leases, client, server)


def _asking(leases: Leases, client: Endpoint, to: Endpoint, server: Endpoint) -> Message:
    family = leases.family
    asked, everybody = _NOBODY[family], _EVERYBODY[family]
    sent = _sent(client, to, asked, everybody, CLIENT[family], SERVER[family], alone=True)
    if family is Family.IPV6:
        return Message("solicit, request and renew", sent, _LINK_LOCAL, str(everybody))
    # Whoever lets this by lets by what renews the lease, too.
    ends = f"{asked}, {leases.word}", f"{everybody}, {server.name}"
    return Message("discover and request", sent, *ends)


def _offering(leases: Leases, by: Endpoint, client: Endpoint) -> Message:
    family = leases.family
    if family is Family.IPV4:
        what, own, other = "offer and acknowledgement", by.address, _EVERYBODY[family]
        ends = by.name, str(other)
    else:
        what, own, other = "advertise and reply", parse_address("fe80::2"), _NOBODY[family]
        ends = _LINK_LOCAL, _LINK_LOCAL
    sent = _sent(by, client, own, other, SERVER[family], CLIENT[family], alone=True)
    return Message(what, sent, *ends)


def _renewing(leases: Leases, client: Endpoint, server: Endpoint) -> Iterator[Message]:
    family = leases.family
    if family is Family.IPV4:
        sent = _sent(client, server, client.address, server.address, CLIENT[family], SERVER[family])
        yield Message("renewal", sent, leases.word, server.name, True)


def _sent(
    one: Endpoint,
    other: Endpoint,
    source: Address,
    destination: Address,
    source_port: int,
    port: int,
    alone: bool = False,
) -> Conversation:
    first = Packet(
        source.family, source.value, destination.value, UDP, source_port, destination_port=port
    )
    return Conversation(one, other, first, alone)


def followed(tracer: Tracer, exchange: Exchange) -> Leased:
    """Trace the messages of an exchange in order, up to the first that does not get through."""
    found = list[Trace]()
    for each in exchange.messages:
        found.append(tracer.trace(each.conversation))
        if found[-1].verdict is not Verdict.PERMITTED or found[-1].differing is not None:
            break
    return Leased(exchange, tuple(found))
