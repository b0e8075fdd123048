"""Who reaches whom: the verdict of every source to every destination for several services."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import NamedTuple

from crossgate.core.conversation.opening import Conversation, conversations
from crossgate.core.conversation.packets import Fate, Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import Decider
from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import Service, ServiceError
from crossgate.core.network.endpoints import at_address, candidates
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.ways import Network
from crossgate.core.sets.meaning import WordKind, meaning_of
from crossgate.core.wording.sentences import first_of


class Cell(NamedTuple):
    """One source to one destination for one service, by family; without a family where they share
    none.

    Between two hosts, `fates` are those of its conversations. Where an end is a set, `proved` are
    the verdicts of the service's parts over everything that is sent.
    """

    source: str
    destination: str
    service: str
    fates: dict[Family, tuple[tuple[Conversation, Fate], ...]]
    proved: Mapping[Family, tuple[Verdict, ...]] = MappingProxyType({})

    def __repr__(self) -> str:
        verdicts = {family.label: "/".join(each) for family, each in self.verdicts().items()}
        told = (
            ", ".join(f"{family} {each}" for family, each in verdicts.items()) or "no family shared"
        )
        return f"<Cell {self.service} {self.source} to {self.destination}: {told}>"

    def verdicts(self) -> dict[Family, tuple[Verdict, ...]]:
        """Return the different verdicts of the service's parts, by family."""
        traced = {
            family: tuple(
                dict.fromkeys(fate.verdict if fate.agreed else Verdict.VARIES for _, fate in fates)
            )
            for family, fates in self.fates.items()
        }
        return traced | dict(self.proved)


_HAVE_HOSTS = (WordKind.HOST, WordKind.SUBNET, WordKind.OUTSIDE, WordKind.GROUP)


def behind_points(plan: Plan, name: str) -> list[str]:
    """Return the subnets and outsides that are attached to the interfaces in a group of points."""
    return list(
        dict.fromkeys(
            segment.name
            for point in plan.groups[name].points
            if (segment := plan.segment_at(point)) is not None
        )
    )


def hosts_of(plan: Plan, names: Sequence[str]) -> list[str]:
    """Return the hosts that names stand for: hosts themselves, the hosts on subnets and outsides
    and in groups.

    No name stands for every host of the plan. Raises `PlanError` for a name that is none of these.
    """
    found: dict[str, None] = {}
    for name in names or plan.hosts:
        meaning = meaning_of(plan, name)
        if name in plan.groups and plan.groups[name].points:
            behind = behind_points(plan, name)
            found.update(
                (host.name, None)
                for host in plan.hosts.values()
                if host.on in behind or host.at in plan.groups[name].points
            )
            continue
        if meaning is None or meaning.kind not in _HAVE_HOSTS:
            raise PlanError(
                unknown("host, subnet or group", name, [*plan.hosts, *plan.segments, *plan.groups])
            )
        if meaning.kind is WordKind.HOST:
            found[name] = None
        elif meaning.kind is WordKind.GROUP:
            found.update(
                (host.name, None)
                for host in plan.hosts.values()
                if any(map(meaning.has, host.addresses))
            )
        else:
            found.update((host.name, None) for host in plan.hosts.values() if host.on == name)
    return list(found)


def default_services(network: Network, ends: Iterable[str]) -> tuple[list[str], list[str]]:
    """Return the services that the plan's expectations name, and ping; and those of them for which
    a grid with such ends has no cells.

    Between two hosts single packets are traced, and some services stand for more than that.
    """
    wanted = dict.fromkeys(
        [
            *(each for expectation in network.plan.expectations for each in expectation.services),
            "ping",
        ]
    )
    known = [
        each
        for each in wanted
        if any(service_in(network.plan, each, family) is not None for family in Family)
    ]
    if not any(each in network.plan.hosts for each in ends):
        return known, []
    traced = [each for each in known if _traceable(network, each)]
    return traced or ["ping"], [each for each in known if each not in traced]


class LeftOut(NamedTuple):
    """What a grid does not show: names without hosts, and services that stand for more than single
    packets.
    """

    names: tuple[str, ...] = ()
    services: tuple[str, ...] = ()

    @property
    def sentence(self) -> str:
        """What is left out, and why; "" where nothing is."""
        reasons = (
            (self.names, "no host is there"),
            (self.services, "single packets cannot stand for it; ends that are sets can have it"),
        )
        told = [f"{first_of(names)} ({why})" for names, why in reasons if names]
        return f"left out: {'; '.join(told)}" if told else ""


def without_host(plan: Plan, names: Sequence[str]) -> tuple[str, ...]:
    """Return which of some names have no host, where names stand for their hosts; without names, of
    all subnets and outsides.
    """
    return tuple(name for name in names or plan.segments if not hosts_of(plan, [name]))


def _traceable(network: Network, service: str) -> bool:
    for host in network.plan.hosts:
        for end in candidates(network, host):
            try:
                conversations(network.plan.service(service, end.address.family), end, end)
            except PlanError:
                continue
            return True
    return False


def check_services(plan: Plan, services: Iterable[str]) -> None:
    """Raise `PlanError` for a service that has a meaning in no family."""
    for service in services:
        errors = []
        for family in Family:
            try:
                plan.service(service, family)
            except ServiceError as error:
                errors.append(str(error))
        if len(errors) == len(Family):
            raise PlanError(errors[0])


_FEW = 1_000
_AT_ONCE = 1 << 15
"""So many conversations are traced together."""


def cells(
    tracer: Tracer,
    sources: Sequence[str],
    destinations: Sequence[str],
    services: Sequence[str],
    few: int = _FEW,
) -> Iterator[Cell]:
    """Yield the cells of the grid, source by source, destination by destination, service by
    service.

    More than a `few` pairs are traced together, list by list (`traffic.bulk`). Raises `PlanError`
    for a service that stands for more than single packets in every family.
    """
    network = tracer.network
    known = {
        (service, family): meaning
        for service in services
        for family in Family
        if (meaning := service_in(network.plan, service, family)) is not None
    }
    ends = {
        name: {end.address.family: end for end in candidates(network, name)}
        for name in dict.fromkeys((*sources, *destinations))
    }
    openings = _Openings(known)
    together = None if len(sources) * len(destinations) <= few else _Together(tracer)
    waiting: list[tuple[str, str, str, dict[Family, list[Conversation]]]] = []
    asked: list[Conversation] = []
    for source in sources:
        for destination in destinations:
            families = [
                each for each in Family if each in ends[source] and each in ends[destination]
            ]
            for service in services if source != destination else ():
                wanted = {
                    family: openings.of(service, ends[source][family], ends[destination][family])
                    for family in families
                    if (service, family) in known
                }
                waiting.append((source, destination, service, wanted))
                asked += (each for several in wanted.values() for each in several)
        if len(asked) >= _AT_ONCE or source == sources[-1] or together is None:
            found = iter(
                together.fates(asked)
                if together is not None
                else (tracer.fate(each, ()) for each in asked)
            )
            for source_name, destination_name, service, wanted in waiting:
                fates = {
                    family: tuple((each, next(found)) for each in several)
                    for family, several in wanted.items()
                }
                yield Cell(source_name, destination_name, service, fates)
            waiting, asked = [], []


class _Openings:
    """The opening packets of services between any two ends; what a service says of packets is
    worked out once.
    """

    def __init__(self, known: Mapping[tuple[str, Family], Service]) -> None:
        self._known = known
        self._packets: dict[tuple[str, Family], list[Packet]] = {}

    def of(self, service: str, start: Endpoint, end: Endpoint) -> list[Conversation]:
        """Return the openings between two ends of one family."""
        key = service, start.address.family
        if key not in self._packets:
            self._packets[key] = [
                each.first for each in conversations(self._known[key], start, end)
            ]
        source, destination = start.address.value, end.address.value
        return [
            Conversation(start, end, each._replace(source=source, destination=destination))
            for each in self._packets[key]
        ]


class _Together:
    """Traces conversations in columns; those that columns cannot settle, or whose ways differ, are
    traced one by one.
    """

    def __init__(self, tracer: Tracer) -> None:
        from crossgate.core.traffic.bulk import BulkTracer

        self._tracer = tracer
        self._bulk = BulkTracer(tracer.network)
        self._usual: dict[Endpoint, bool] = {}

    def fates(self, asked: Sequence[Conversation]) -> Iterator[Fate]:
        """Return what becomes of each of some conversations."""
        found: list[Fate | None] = [None] * len(asked)
        for family in Family:
            rows = [row for row, each in enumerate(asked) if self._in_columns(each, family)]
            for row, fate in zip(
                rows, self._columns(family, [asked[row] for row in rows]), strict=True
            ):
                found[row] = fate
        return (
            self._tracer.fate(conversation, ()) if fate is None else fate
            for conversation, fate in zip(asked, found, strict=True)
        )

    def _in_columns(self, conversation: Conversation, family: Family) -> bool:
        """Whether a conversation can be traced in columns: it is of the family, and its ends are
        the usual ones for their addresses.
        """
        return conversation.first.family is family and all(
            self._is_usual(end) for end in (conversation.source, conversation.destination)
        )

    def _is_usual(self, end: Endpoint) -> bool:
        if end not in self._usual:
            self._usual[end] = at_address(self._tracer.network, end.address) == end
        return self._usual[end]

    def _columns(self, family: Family, asked: Sequence[Conversation]) -> list[Fate | None]:
        if not asked:
            return []
        import numpy as np

        from crossgate.core.model.packets import packet_columns
        from crossgate.core.traffic.fates import NO_PLACE, VARIES, VERDICTS

        packets = packet_columns(family, [each.first for each in asked])
        once, windows = (np.full(len(asked), number, np.int64) for number in (1, 0))
        fates = self._bulk.trace(packets, windows, [self._tracer.state], once, once)
        # A list for frames decides as what it is for the packets in some.
        of_packets = len(self._tracer.network.plan.lists)
        columns = (fates.verdict, fates.list, fates.entry, fates.unsettled)
        return [
            None
            if verdict in (NO_PLACE, VARIES) or unsettled or own >= of_packets
            else Fate(VERDICTS[verdict], None if own == NO_PLACE else self._decider(own, entry))
            for verdict, own, entry, unsettled in zip(
                *(each.tolist() for each in columns), strict=True
            )
        ]

    def _decider(self, own: int, entry: int) -> Decider:
        access_list = self._bulk.asked.lists[own]
        return Decider(access_list, None if entry < 0 else access_list.entries[entry])


def service_in(plan: Plan, text: str, family: Family) -> Service | None:
    """Return a service as it is in a family; None where it has no part there."""
    try:
        return plan.service(text, family)
    except ServiceError:
        return None


class CellChange(NamedTuple):
    """A cell that two plans answer differently in one family; None for a plan that has no such
    cell.
    """

    source: str
    destination: str
    service: str
    family: Family
    was: tuple[Verdict, ...] | None
    now: tuple[Verdict, ...] | None


def changes(before: Iterable[Cell], after: Iterable[Cell]) -> Iterator[CellChange]:
    """Yield the cells that differ between two grids."""
    old = {(cell.source, cell.destination, cell.service): cell.verdicts() for cell in before}
    new = {(cell.source, cell.destination, cell.service): cell.verdicts() for cell in after}
    for key in dict.fromkeys([*new, *old]):
        was, now = old.get(key, {}), new.get(key, {})
        for family in Family:
            if was.get(family) != now.get(family):
                yield CellChange(*key, family, was.get(family), now.get(family))
