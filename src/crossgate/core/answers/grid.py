"""Who reaches whom: the verdict of every source to every destination for several services."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.meaning import WordKind, meaning_of
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import Service, ServiceError
from crossgate.core.network.endpoints import candidates, pairs
from crossgate.core.network.itineraries import Network
from crossgate.core.traffic.legs import conversations
from crossgate.core.traffic.trace import Trace, Tracer, Verdict


class Cell(NamedTuple):
    """One source to one destination for one service: the traces by family, none where the two share no family."""

    source: str
    destination: str
    service: str
    traces: dict[Family, tuple[Trace, ...]]

    def verdicts(self) -> dict[Family, tuple[Verdict, ...]]:
        """Return the different verdicts of the service's parts, by family."""
        return {
            family: tuple(dict.fromkeys(Verdict.VARIES if trace.differing else trace.verdict for trace in traces))
            for family, traces in self.traces.items()
        }


_HAVE_HOSTS = (WordKind.HOST, WordKind.SUBNET, WordKind.OUTSIDE, WordKind.GROUP)


def hosts_of(plan: Plan, names: Sequence[str]) -> list[str]:
    """Return the hosts that names stand for: hosts themselves, the hosts on subnets and outsides and in groups.

    No name stands for every host of the plan. Raises `PlanError` for a name that is none of these.
    """
    found: dict[str, None] = {}
    for name in names or plan.hosts:
        meaning = meaning_of(plan, name)
        if meaning is None or meaning.kind not in _HAVE_HOSTS:
            raise PlanError(unknown("host, subnet or group", name, [*plan.hosts, *plan.segments, *plan.groups]))
        if meaning.kind is WordKind.HOST:
            found[name] = None
        elif meaning.kind is WordKind.GROUP:
            found.update((host.name, None) for host in plan.hosts.values() if any(map(meaning.has, host.addresses)))
        else:
            found.update((host.name, None) for host in plan.hosts.values() if host.on == name)
    return list(found)


def default_services(network: Network) -> list[str]:
    """Return the services that the plan's expectations name, as far as single packets can be traced for them, and ping."""
    found: dict[str, None] = {}
    for expectation in network.plan.expectations:
        found[expectation.service] = None
    found["ping"] = None
    return [service for service in found if _traceable(network, service)]


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


def cells(network: Network, tracer: Tracer, sources: Iterable[str], destinations: Sequence[str], services: Sequence[str]) -> Iterator[Cell]:
    """Yield the cells of the grid, source by source, destination by destination, service by service.

    Raises `PlanError` for a service that names more than single packets in every family.
    """
    known = {(service, family): _service(network.plan, service, family) for service in services for family in Family}
    for source in sources:
        for destination in destinations:
            if source == destination:
                continue
            try:
                ends = pairs(network, source, destination)
            except PlanError:
                ends = []
            for service in services:
                traces: dict[Family, tuple[Trace, ...]] = {}
                for start, end in ends:
                    meaning = known[(service, start.address.family)]
                    if meaning is not None:
                        wanted = conversations(meaning, start, end)
                        traces[start.address.family] = tuple(tracer.trace(conversation) for conversation in wanted)
                yield Cell(source, destination, service, traces)


def _service(plan: Plan, text: str, family: Family) -> Service | None:
    try:
        return plan.service(text, family)
    except ServiceError:
        return None


class Change(NamedTuple):
    """A cell that two plans answer differently in one family; None where a plan has no such cell."""

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
