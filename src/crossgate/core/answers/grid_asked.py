"""What a grid is asked for: ends as a person names them, and the cells between them, traced between
two hosts and proved where an end is a set.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import chain
from typing import NamedTuple

from crossgate.core.answers.grid import (
    Cell,
    LeftOut,
    behind_points,
    cells,
    check_services,
    default_services,
    hosts_of,
    without_host,
)
from crossgate.core.answers.set_grid import SetGrid
from crossgate.core.conversation.packets import Tracer
from crossgate.core.model.address import Family
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.model.progress import Tell
from crossgate.core.network.endpoints import endpoint_set
from crossgate.core.network.ways import Network
from crossgate.core.sets.effort import TooManyPieces
from crossgate.core.traffic.session import Session


def ends_of(plan: Plan, words: Sequence[str], hosts: bool, other: Plan | None = None) -> list[str]:
    """Return the ends that words name, sets as they are unless their `hosts` are wanted; without
    words every host, or else every subnet.

    With another plan, an end needs to be in only one of the two. Raises `PlanError` for a word that
    names no end.
    """
    plans = [plan] if other is None else [plan, other]
    if words and not hosts:
        # A group of points stands for what is behind them, one by one.
        grouped = {name for each in plans for name, group in each.groups.items() if group.points}
        words = [
            name
            for word in words
            for each in plans[:1]
            for name in (behind_points(each, word) if word in grouped else [word])
        ]
    chosen = [each for each in plans if all(is_end(each, word) for word in words)] or [plan]
    if hosts or (not words and any(each.hosts for each in plans)):
        return list(dict.fromkeys(name for each in chosen for name in hosts_of(each, words)))
    named = list(dict.fromkeys(words or [name for each in plans for name in each.segments]))
    for word in named:
        if not any(is_end(each, word) for each in plans):
            _see_that_it_is_an_end(plan, word)
    return named


def hostless_of(plan: Plan, words: Sequence[str], hosts: bool) -> tuple[str, ...]:
    """Return the names that `ends_of` leaves out because they have no host."""
    return without_host(plan, words) if plan.hosts and (hosts or not words) else ()


def _see_that_it_is_an_end(plan: Plan, word: str) -> None:
    endpoint_set(plan, word, Family.IPV4)


def is_end(plan: Plan, word: str) -> bool:
    """Whether a word is an end in a plan."""
    try:
        _see_that_it_is_an_end(plan, word)
    except PlanError:
        return False
    return True


def cells_of(
    plan: Plan,
    when: When,
    ends: tuple[Sequence[str], Sequence[str]],
    services: Sequence[str],
    missed: list[TooManyPieces] | None = None,
    tell: Tell | None = None,
) -> list[Cell]:
    """Return the cells of a grid between two kinds of `ends`, sources and destinations: those
    between two hosts are traced, those of sets proved; a name that the plan does not have has no
    cells.

    What takes too much work is added to `missed`, or else raises `TooManyPieces`; `tell` is told
    how many cells are done.
    """
    sources, destinations = ([name for name in names if is_end(plan, name)] for names in ends)
    session = Session(plan)
    hosts = [[name for name in names if name in plan.hosts] for names in (sources, destinations)]
    pairs = [
        (one, other)
        for one in sources
        for other in destinations
        if one not in plan.hosts or other not in plan.hosts
    ]
    between = sum(source != destination for source in hosts[0] for destination in hosts[1])
    total = (between + len(pairs)) * len(services)
    tracer, sets = Tracer(session.network, plan.state_at(when)), SetGrid(session, when, missed)
    proved = (cell for one, other in pairs for cell in sets.cell(one, other, services))
    found = []
    for cell in chain(cells(tracer, hosts[0], hosts[1], services), proved):
        found.append(cell)
        if tell is not None:
            tell(len(found), total)
    return found


class Grid(NamedTuple):
    """Who reaches whom: the ends and services that were asked about, the cells between them, and
    what is left out.
    """

    sources: Sequence[str]
    destinations: Sequence[str]
    services: Sequence[str]
    cells: Sequence[Cell]
    left: LeftOut

    def __repr__(self) -> str:
        sizes = f"{len(self.sources)} by {len(self.destinations)} by {len(self.services)}"
        return f"<Grid {sizes} cells={len(self.cells)}>"


class GridEnds(NamedTuple):
    """The words that a person names ends with, and whether the hosts of sets are meant, one by
    one.
    """

    sources: Sequence[str] = ()
    destinations: Sequence[str] = ()
    hosts: bool = False


def grid_of(
    plan: Plan,
    when: When,
    services: Sequence[str],
    ends: GridEnds,
    other: Plan | None = None,
    missed: list[TooManyPieces] | None = None,
    tell: Tell | None = None,
) -> Grid:
    """Return who reaches whom, by services, or by those that the plan expects, and ping.

    An end may be only in the `other` plan; the rest is as for `cells_of`. Raises `PlanError` for an
    unknown end or service, and where there are no ends.
    """
    asked = (ends.sources, ends.destinations)
    sources, destinations = (ends_of(plan, each, ends.hosts, other) for each in asked)
    untraced: list[str] = []
    if not services:
        services, untraced = default_services(Network(plan), [*sources, *destinations])
    check_services(plan, services)
    if not sources or not destinations:
        raise PlanError(
            f"{plan.files[0]} has no hosts {'there' if plan.hosts else 'and no subnets yet'}; a "
            "grid needs ends"
        )
    hostless = dict.fromkeys(name for each in asked for name in hostless_of(plan, each, ends.hosts))
    found = cells_of(plan, when, (sources, destinations), services, missed, tell)
    return Grid(sources, destinations, services, found, LeftOut(tuple(hostless), tuple(untraced)))
