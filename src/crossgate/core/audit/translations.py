"""Translations that no packet meets or whose answers do not get back, and entries for addresses
that their list never sees.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from crossgate.core.audit.coming_by import comes_by
from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.model.accesslist import AccessList, line_name
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.entry import Entry
from crossgate.core.model.errors import Place
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.network import Direction, Translation, TranslationKind
from crossgate.core.model.plan import Plan
from crossgate.core.network.crossed import Crossed, CrossedGraphs
from crossgate.core.network.paths import Crossing, Endpoint
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.effort import answered
from crossgate.core.sets.region import Region, entry_region
from crossgate.core.wording.translated import patterns_text, public_name


@finds("translation-unused")
def unused(case: Case) -> Iterator[Finding]:
    """Yield the rules that take no packet of any machine; a line for both families counts if it
    takes some packet of one.
    """
    known = _lines_met(case)
    for family in Family:
        graphs = case.network.graphs(family)
        if not isinstance(graphs, CrossedGraphs):
            continue
        for number, rule in enumerate(graphs.translations.rules):
            if number not in graphs.translations.met and rule.place not in known:
                known.add(rule.place)
                fault = Fault(
                    f"no packet meets `{rule.text}`{_before(graphs.translations.rules, number)}",
                    "drop it, or see which way its traffic takes: crossgate points FROM TO",
                )
                yield Finding("translation-unused", rule.place, None, None, fault)


def _lines_met(case: Case) -> set[Place]:
    """Return the lines with a rule that takes some packet."""
    found = set()
    for family in Family:
        graphs = case.network.graphs(family)
        if isinstance(graphs, CrossedGraphs):
            case.session.matrix(family)  # all that is sent has been asked for
            found |= {graphs.translations.rules[each].place for each in graphs.translations.met}
    return found


def _before(rules: tuple[Translation, ...], number: int) -> str:
    """Name the rule above that takes all addresses of a rule, where there is one."""
    own = rules[number]
    for each in rules[:number]:
        if each.point != own.point or each.services not in (None, own.services):
            continue
        entering = own.kind is TranslationKind.ENTERING
        if entering is not (each.kind is TranslationKind.ENTERING):
            continue
        mine, its = (own.public, each.public) if entering else (own.inside, each.inside)
        if not AddressSet.of(own.family, mine) - AddressSet.of(own.family, its):
            return f": `{each.text}` in line {each.place.line} takes all of it first"
    return ""


class _Returned(NamedTuple):
    """Whether any answer gets back to a source that a rule translates, and an example packet: its
    source, destination and sort, and the state in which it arrived.
    """

    any: bool
    example: tuple[Endpoint, Endpoint, int, Crossed]


@finds("translation-unreturned")
def unreturned(case: Case) -> Iterator[Finding]:
    """Yield the rules whose packets arrive but whose answers never get back."""
    for family in Family:
        graphs = case.network.graphs(family)
        if not isinstance(graphs, CrossedGraphs):
            continue
        for number, found in sorted(_returned(case, graphs, family).items()):
            rule = graphs.translations.rules[number]
            if found.any:
                continue
            source, destination, sort, way = found.example
            assert way.arrived is not None  # only these are examples
            trip = graphs.trip(source, destination, sort)
            failure = trip.back(way.arrived._replace(sort=sort)).path.failure
            why = "" if failure is None else f": {failure}"
            fault = Fault(
                f"no answer to {public_name(case.plan, rule)} comes back to {rule.device}, as from "
                f"{destination.address}{why}",
                f"route it to {rule.device}, or translate to an address that is routed there",
            )
            yield Finding("translation-unreturned", rule.place, None, None, fault)


def _returned(case: Case, graphs: CrossedGraphs, family: Family) -> dict[int, _Returned]:
    """Return for each rule that translates sources whether answers get back."""
    classes, found = case.session.address_classes(family), dict[int, _Returned]()
    matrix, known = case.session.matrix(family), set[int]()
    for one, other in matrix.crossing:
        ends, number = (classes[one].end, classes[other].end), matrix.between(one, other)[0]
        if ends[0].device is not None or ends[1].device is not None or number in known:
            continue
        known.add(number)
        for part in graphs.by_sort(*ends):
            for way in part.ways:
                rules = () if way.arrived is None else way.arrived.view
                for each in (made for made in rules if not made.side):
                    before = found.get(each.rule)
                    if before is None or not before.any:
                        back = graphs.arrives(way.back)
                        found[each.rule] = _Returned(back, (*ends, part.sort, way))
    return found


@finds("translated-away")
def translated_away(case: Case) -> Iterator[Finding]:
    """Yield the entries that ask for an address which is translated to another one where their list
    stands.
    """
    if not any(case.plan.translations.values()):
        return
    for access_list in case.placed():
        for entry in case.scope.entries(access_list):
            with answered(
                f"what {line_name(access_list.name, entry.number)} sees where it stands",
                case.missed,
            ):
                found = asks_for_another(case, access_list, entry)
                if found is not None:
                    yield Finding(
                        "translated-away",
                        entry.place,
                        access_list.name,
                        entry.number,
                        found.fault,
                        instead=found.instead,
                    )


class Other(NamedTuple):
    """What is wrong with an entry, and its words corrected to what it should ask for."""

    fault: Fault
    instead: tuple[tuple[str, str], ...]


def asks_for_another(case: Case, access_list: AccessList, entry: Entry) -> Other | None:
    """Return what is wrong with an entry that asks for an address which is translated before its
    list, or only after it; None where nothing is.
    """
    region = entry_region(entry, access_list.family)
    if region is None or not case.plan.translations[access_list.family]:
        return None
    for point, direction in case.plan.places_of(access_list):
        crossing = Crossing(point, direction)
        rules = [each for each in case.plan.translations[region.family] if each.point == point]
        if direction is Direction.INBOUND and rules:
            fault = _not_yet(case.plan, entry, rules, crossing)
            if fault is not None:
                return fault
        if not comes_by(case, entry, region, crossing):
            fault = _no_more(case, entry, region, crossing)
            if fault is not None:
                return fault
    return None


def _not_yet(
    plan: Plan, entry: Entry, rules: list[Translation], crossing: Crossing
) -> Other | None:
    """Return what is wrong with an entry that asks for inside destinations at a place where packets
    still have public ones.
    """
    taking = [
        each for each in rules if each.public and _hold(each.inside, entry.destination.patterns)
    ]
    if not taking:
        return None
    rule = taking[0]
    public = public_name(plan, rule)
    instead = [(entry.destination.text, public)]
    services = ",".join(each.text(rule.family) for each in rule.services or ())
    if rule.port is not None and entry.service.text != services:
        instead.insert(0, (entry.service.text, services))
    fault = Fault(
        f"what comes in there for {entry.destination.text} is for {public} as yet: "
        f"{rule.device} translates it behind the list",
        f"ask for {' to '.join(new for _, new in instead)}",
    )
    return Other(fault, tuple(instead))


def _no_more(case: Case, entry: Entry, region: Region, crossing: Crossing) -> Other | None:
    """Return what is wrong with an entry whose traffic passes its place with other addresses."""
    plan = case.plan
    for each in case.passages.seen(region.family, crossing):
        if not each.sent.meets(region):
            continue
        last = each.view[-1]
        rule = plan.translations[region.family][last.rule]
        asked = entry.destination.text if last.side else entry.source.text
        there = patterns_text(rule.inside) if last.side else public_name(plan, rule)
        fault = Fault(
            f"nothing that passes {crossing.where} can match it: {asked} is {there} there, for "
            f"{last.device} translates it before",
            f"ask for {there}",
        )
        return Other(fault, ((asked, there),))
    return None


def _hold(several: Iterable[Pattern], patterns: Iterable[Pattern]) -> bool:
    """Whether each of some patterns lies inside one of the others."""
    blocks = list(several)
    return all(any(block.covers(each) for block in blocks) for each in patterns)
