"""Entries distilled from traffic, written into a list: a new one, or before the first denial of an
existing one.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import count
from pathlib import Path
from typing import NamedTuple

from crossgate.core.answers.distil import Distilled, Distiller, Sightings
from crossgate.core.answers.groups import MOST_GROUPS, Kind, NoPattern
from crossgate.core.lists.index import ListIndex
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Address, Family
from crossgate.core.model.entry import Action
from crossgate.core.model.entry import Kind as ListKind
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, Point
from crossgate.core.network.crossed import CrossedGraphs
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.paths import Crossing, Endpoint
from crossgate.core.network.view import FIRST_CHOICE, LAST_CHOICE, Choice, choosing, packet_in
from crossgate.core.network.way_graph import WayGraph
from crossgate.core.network.way_graphs import WayGraphs
from crossgate.core.network.ways import Network
from crossgate.core.sets import spans as line
from crossgate.core.sets.region import Region, entry_region
from crossgate.core.wording.sentences import packet_text
from crossgate.language import edits, list_edits, placing
from crossgate.language.draft import Draft
from crossgate.language.reader import read
from crossgate.language.twin import ERRORS, NEIGHBOURS


class Target(NamedTuple):
    """The list that gets the entries, and where it is to be placed: a direction and a place, as
    typed.
    """

    name: str
    place: tuple[str, str] | None


def write(
    draft: Draft,
    distiller: Distiller,
    target: Target,
    room: float,
    headroom: float | None = None,
) -> str | None:
    """Write the entries that were distilled for one family, and return a sentence with their
    number; None where there are none.

    `room` and `headroom` are as in `Distiller.entries`. Raises `PlanError` where the list cannot
    have the entries.
    """
    plan, family = draft.plan, distiller.family
    there = plan.lists.get(target.name)
    if there is not None:
        if there.family is not family or there.kind is not ListKind.EXTENDED:
            raise PlanError(
                f"list {there.name} is {there.kind} {there.family.word}; an extended "
                f"{family.word} list is needed"
            )
        if target.place is not None:
            raise PlanError(
                f"list {there.name} is there already, and --place is for a new one; crossgate "
                "place puts it somewhere"
            )
    crossings = [
        Crossing(each.point, each.direction)
        for each in plan.placements
        if each.access_list == target.name
    ]
    if target.place is not None:
        crossings = [_crossing(draft, target.place)]
    coming, answering = _by(Network(plan), distiller, crossings) if crossings else (None, None)
    try:
        entries = distiller.entries(room, coming, answering, headroom)
    except NoPattern as error:
        raise PlanError(_no_pattern(distiller, error.groups)) from None
    found = _needed(draft, entries, family, there)
    if not found:
        return None
    texts = [f'{each.text} "{_remark(each)}"' for each in found]
    if there is None:
        head = [f'{NEIGHBOURS} "RFC 4861"', f'{ERRORS} "RFC 4890"'] if family is Family.IPV6 else []
        list_edits.new_list(draft, target.name, ListKind.EXTENDED, family, [*head, *texts])
        if target.place is not None:
            placing.place_list(
                draft,
                list_edits.empty_list(target.name, ListKind.EXTENDED, family),
                crossings[0].direction,
                crossings[0].point,
            )
    else:
        edits.add_entries(draft, there, texts)
    _see_that_it_permits(draft, target.name, distiller, coming, answering)
    left = "".join(
        f"; {_conversations(number)} that {why} {'is' if number == 1 else 'are'} left out"
        for number, why in (
            (distiller.unanswered, "nobody answered"),
            (distiller.rare, "came too seldom"),
        )
        if number
    )
    number = sum(each.conversations for each in found)
    return (
        f"{target.name} gets {len(found)} entr{'y' if len(found) == 1 else 'ies'} for "
        f"{_conversations(number)}{left}"
    )


def nothing_to_permit(files: Iterable[str], found: Iterable[Distiller], least: int) -> str:
    """Say why there is nothing to permit in files of traffic, of which conversations were taken
    that came at least so often.
    """
    found = list(found)
    left = sum(each.unanswered for each in found)
    it, them = ("is", "it") if left == 1 else ("are", "them")
    told = f"there is nothing in {', '.join(files)} to permit"
    if left:
        told += (
            f"; {_conversations(left)} that nobody answered {it} left out, and --all permits "
            f"{them} too"
        )
    if any(each.rare for each in found):
        told += f"; nothing was seen {least} times"
    return told


def _no_pattern(distiller: Distiller, groups: int) -> str:
    """Say why some conversations have no pattern, and which option leaves fewer of them."""
    kinds = len(distiller.kinds)
    told = (
        f"there is no pattern in this: of {kinds:,} kinds of conversation (by who opens it, to whom "
        f"and what for) {groups:,} groups are left, and a list for more than {MOST_GROUPS:,} is none "
        "that people read; "
    )
    least = next(each for each in _oftener() if distiller.kinds_seen(each) <= MOST_GROUPS)
    kept = distiller.kinds_seen(least)
    if not kept:
        return told + "--place takes only what comes by one place, and less time has less in it"
    return told + f"--at-least {least} leaves {kept:,} of these kinds"


def _oftener() -> Iterator[int]:
    """Yield 2, 5, 10, 20, 50 and so on: numbers to propose for `--at-least`."""
    for power in count():
        yield from (each * 10**power for each in (2, 5, 10))


def _see_that_it_permits(
    draft: Draft,
    name: str,
    distiller: Distiller,
    coming: Sightings | None,
    answering: Sightings | None,
) -> None:
    """Check the traffic against the list as it was written, read back from its text. Raises
    `PlanError` where any of it is denied.
    """
    data = {**draft.data, **draft.result()}
    access_list = read(Path(draft.plan.files[0]), data).plan.lists[name]
    index = ListIndex(access_list, frozenset())
    for packet in distiller.packets(coming, answering):
        decider = index.decide(packet)
        if decider.action is not Action.PERMIT:
            line = "otherwise" if decider.entry is None else decider.entry.number
            raise PlanError(
                f"{packet_text(packet)} was seen, and {name} {line} would stop it, so nothing is "
                "written; "
                "where that line is to stay, distil into another list"
            )


def _conversations(number: int) -> str:
    return f"{number:,} conversation{'s' * (number != 1)}"


def _crossing(draft: Draft, place: tuple[str, str]) -> Crossing:
    direction, where = place
    if direction not in list(Direction):
        raise PlanError(
            f"--place {direction} {where}: write inbound, outbound or within, then the place"
        )
    return Crossing(placing.point_given(draft, where), Direction(direction))


def _by(
    network: Network, distiller: Distiller, crossings: list[Crossing]
) -> tuple[Sightings, Sightings]:
    """Return functions that tell, for each kind of conversation, how its packets look as they pass
    some places, and how the answers look that lists there are asked about.
    """
    there, back = dict[Kind, list[Kind]](), dict[Kind, list[Kind]]()
    family, between = distiller.family, dict[tuple[int, int], _Between]()
    graphs = network.as_if_placed(family, [each.place for each in crossings])
    for kind in distiller.kinds:
        source, destination = (Address(family, each) for each in kind[:2])
        if kind[:2] not in between:
            between[kind[:2]] = _between(network, graphs, source, destination, crossings)
        pair = between[kind[:2]]
        if pair.crossed:
            first = distiller.opening(kind)
            ways = network.of_packet(pair.one, pair.other, first, graphs)
            there[kind] = _seen_at(crossings, [each.there for each in ways], distiller, kind)
            back[kind] = _seen_at(pair.asked, [each.back for each in ways], distiller, kind)
        else:
            there[kind], back[kind] = [kind] * pair.comes, [kind] * pair.is_answered
    return there, back


class _Between(NamedTuple):
    """Two ends, whether translations may be met between them, and the places at which lists are
    asked about answers.

    Without translations, packets either pass a place or not, and answers are checked there or not.
    """

    one: Endpoint
    other: Endpoint
    crossed: bool
    asked: list[Crossing]
    comes: bool
    is_answered: bool


def _between(
    network: Network,
    graphs: WayGraphs,
    source: Address,
    destination: Address,
    crossings: list[Crossing],
) -> _Between:
    one, other = at_address(network, source), at_address(network, destination)
    plain = graphs.plain(one, destination), graphs.plain(other, source)
    asked = [
        each
        for each in crossings
        if not _stateful(network, each.point)
        or _avoids(network, one, destination, each.point.owner)
    ]
    return _Between(
        one,
        other,
        isinstance(graphs, CrossedGraphs) and graphs.touches(source, destination, plain),
        asked,
        _passes(network, one, destination, crossings),
        _passes(network, other, source, asked),
    )


def _seen_at(
    crossings: list[Crossing], graphs: list[WayGraph], distiller: Distiller, kind: Kind
) -> list[Kind]:
    """Return how conversations of a kind look at places on ways that cross translations."""
    first, term = distiller.opening(kind), kind[2]
    places = {each.place for each in crossings}
    found = dict[Kind, None]()
    for view in dict.fromkeys(
        each.view for graph in graphs for each in graph.crossings if each.place in places
    ):
        hiding = choosing(view)
        chosen: Sequence[Choice] = [
            Choice(value, FIRST_CHOICE)
            for pool in (hiding.pool if hiding is not None else ())
            for value in range(pool.first, pool.last + 1)
        ]
        if chosen:
            distiller.see_client_ports(FIRST_CHOICE, LAST_CHOICE)
        for choice in chosen or (None,):
            seen = packet_in(view, first, choice)
            number = term.number if seen.destination_port is None else seen.destination_port
            found[seen.source, seen.destination, term._replace(number=number)] = None
    return list(found)


def _avoids(network: Network, start: Endpoint, destination: Address, device: str) -> bool:
    """Whether a packet may arrive by one of its equal paths without passing a device, which then
    does not know the conversation.
    """
    if device == start.device:
        return False
    front, seen = (
        [move for _, moves in network.starts(start, destination) for move in moves],
        set[str](),
    )
    while front:
        move = front.pop()
        if move.device == device:
            continue
        if move.ends or move.device is None:
            if move.failure is None:
                return True
        elif move.device not in seen:
            seen.add(move.device)
            front += network.hops(move.device, destination)
    return False


def _stateful(network: Network, point: Point) -> bool:
    return point.device is not None and network.plan.devices[point.device].stateful


def _passes(
    network: Network, start: Endpoint, destination: Address, crossings: list[Crossing]
) -> bool:
    passed = network.graphs(destination.family).crossings(start, destination)
    return any(each in passed for each in crossings)


def _remark(each: Distilled) -> str:
    unseen = f", {each.unseen:.0%} of it not seen" if each.unseen else ""
    busiest = f", {each.busiest:,} in the busiest minute" if each.busiest else ""
    return _conversations(each.conversations) + unseen + busiest


def _needed(
    draft: Draft, found: list[Distilled], family: Family, there: AccessList | None
) -> list[Distilled]:
    """Return the entries without those that another one covers, or a permit of the list before its
    first denial.
    """
    given = there or list_edits.empty_list("distilled", ListKind.EXTENDED, family)
    regions = [entry_region(edits.given_entry(draft, given, each.text), family) for each in found]
    held: list[Region | None] = []
    for entry in given.entries:
        if entry.action is not Action.PERMIT:
            break
        if entry.in_force(frozenset()) and entry.window is None:
            held.append(entry_region(entry, family))
    kept: list[Distilled] = []
    for number, (each, own) in enumerate(zip(found, regions, strict=True)):
        others = [
            *held,
            *(
                other
                for place, other in enumerate(regions)
                if place < number or (place > number and not _within(other, own))
            ),
        ]
        if not any(_within(own, other) for other in others):
            kept.append(each)
    return kept


def _within(one: Region | None, other: Region | None) -> bool:
    """Whether one product contains all of another."""
    if one is None or other is None:
        return one is None
    services = line.within(one.what, other.what) and line.within(
        one.source_ports, other.source_ports
    )
    marks = not one.flags & ~other.flags and not one.dscp & ~other.dscp
    return (
        services
        and marks
        and not (one.source - other.source)
        and not (one.destination - other.destination)
    )
