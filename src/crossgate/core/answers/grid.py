"""Who reaches whom: the verdict of every source to every destination for several services."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import NamedTuple

from crossgate.core.conversation.opening import Conversation, conversations
from crossgate.core.conversation.packets import Fate, Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import Service, ServiceError
from crossgate.core.network.endpoints import candidates
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.ways import Network
from crossgate.core.sets.meaning import WordKind, meaning_of
from crossgate.core.wording.sentences import first_of


class Cell(NamedTuple):
    """One source to one destination for one service, by family; no family where they share none.

    Between two hosts `fates` are those of its conversations. Where an end is a set, `proved` are
    the verdicts of the service's parts over all that is sent.
    """

    source: str
    destination: str
    service: str
    fates: dict[Family, tuple[tuple[Conversation, Fate], ...]]
    proved: Mapping[Family, tuple[Verdict, ...]] = MappingProxyType({})

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
    """Return the subnets and outsides that the interfaces of a group of points are on."""
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
    """Return the services that the plan's expectations name, and ping, and those of them that a
    grid with such ends has no cells for.

    Between two hosts single packets are traced, which some services are more than.
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
    """What a grid does not show: names that no host is on or in, and services that are more than
    single packets.
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
    """Return which of some names have no host, where they stand for their hosts; no name stands for
    every subnet and outside.
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
    """Raise `PlanError` for a service that is none in any family."""
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


def cells(
    tracer: Tracer,
    sources: Sequence[str],
    destinations: Sequence[str],
    services: Sequence[str],
    few: int = _FEW,
) -> Iterator[Cell]:
    """Yield the cells of the grid, source by source, destination by destination, service by
    service.

    The graphs of more than a `few` pairs are worked out at once. Raises `PlanError` for a service
    that names more than single packets in every family.
    """
    network = tracer.network
    known = {
        (service, family): service_in(network.plan, service, family)
        for service in services
        for family in Family
    }
    ends = {
        name: {end.address.family: end for end in candidates(network, name)}
        for name in dict.fromkeys((*sources, *destinations))
    }
    nodes = _nodes(network, ends) if len(sources) * len(destinations) > few else {}
    for source in sources:
        for destination in destinations:
            if source == destination:
                continue
            ways = {}
            for family in Family:
                start, end = ends[source].get(family), ends[destination].get(family)
                if start is not None and end is not None:
                    numbers = nodes[family](source, destination) if nodes else (None, None)
                    # Across translations the ways depend on what is sent.
                    plain = not network.plan.translations[family]
                    several = (network.between(start, end, numbers),) if plain else ()
                    ways[family] = start, end, several
            for service in services:
                fates = {}
                for family, (start, end, several) in ways.items():
                    meaning = known[(service, family)]
                    if meaning is not None:
                        wanted = conversations(meaning, start, end)
                        fates[family] = tuple(
                            (conversation, tracer.fate(conversation, several))
                            for conversation in wanted
                        )
                yield Cell(source, destination, service, fates)


def _nodes(
    network: Network, ends: dict[str, dict[Family, Endpoint]]
) -> dict[Family, Callable[[str, str], tuple[int, int]]]:
    """Return for each family what tells the numbers of the graphs between two hosts, there and
    back.
    """
    from crossgate.core.network.matrix import Matrix

    def told(family: Family) -> Callable[[str, str], tuple[int, int]]:
        own = {
            name: index
            for index, name in enumerate(
                name for name, by_family in ends.items() if family in by_family
            )
        }
        matrix = Matrix(network.graphs(family), [ends[name][family] for name in own])
        numbers, rows = matrix.numbers, matrix.row.tolist()

        def between(source: str, destination: str) -> tuple[int, int]:
            here, far = own[source], own[destination]
            return int(numbers[rows[here], far]), int(numbers[rows[far], here])

        return between

    return {family: told(family) for family in Family}


def service_in(plan: Plan, text: str, family: Family) -> Service | None:
    """Return a service as a family has it; None where it has none of it."""
    try:
        return plan.service(text, family)
    except ServiceError:
        return None


class Change(NamedTuple):
    """A cell that two plans answer differently in one family; None where a plan has no such
    cell.
    """

    source: str
    destination: str
    service: str
    family: Family
    was: tuple[Verdict, ...] | None
    now: tuple[Verdict, ...] | None


def changes(before: Iterable[Cell], after: Iterable[Cell]) -> Iterator[Change]:
    """Yield what differs between two grids."""
    old = {(cell.source, cell.destination, cell.service): cell.verdicts() for cell in before}
    new = {(cell.source, cell.destination, cell.service): cell.verdicts() for cell in after}
    for key in dict.fromkeys([*new, *old]):
        was, now = old.get(key, {}), new.get(key, {})
        for family in Family:
            if was.get(family) != now.get(family):
                yield Change(*key, family, was.get(family), now.get(family))
