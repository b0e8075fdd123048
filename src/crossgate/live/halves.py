"""A step in two halves: a device first also denies what it is to deny later, and only in the second
half permits what it is to permit.

Between the halves a device permits only what it permits both before and after. So no denial that
holds before and after a push can break while all devices get their first halves, and then their
second ones.

The list of a first half is the new list in which each permit is replaced by the old list, limited
to what that permit takes; denials of the new list stay. Rules are products of prefixes, protocols
and ports, and so are their intersections.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import product

from crossgate.core.lists.rules import Rule
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action, Kind
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, Point
from crossgate.core.model.service import Ports, both_flags
from crossgate.core.sets.patterns import common
from crossgate.language.coming import Coming, ComingList, ComingPlace

MOST_RULES = 2_000
_Place = tuple[Point, Direction, Family]


def first_half(before: Coming, after: Coming, closed: bool) -> Coming:
    """Return the list that a device runs between two halves, given those before and after; without
    a list it permits all, or nothing if it is `closed`. Raises `PlanError` where a list would have
    too many lines.
    """
    old, new = _by_place(before), _by_place(after)
    frames = [each for each in before.places if each.of.family is None]
    lists = [each for each in before.lists if each.family is None]
    found = replace(before, lists=lists, places=frames, told=[*before.told])
    known = dict[tuple[int, int], ComingList]()
    for place in dict.fromkeys((*old, *new)):
        was, will = old.get(place), new.get(place)
        if closed and (was is None or will is None):
            continue
        pair = id(was), id(will)
        if pair not in known:
            named = was if will is None else will
            assert named is not None
            own = found.new_list(named.name, place[2], kind=Kind.EXTENDED)
            own.otherwise = _fill(own, was, will)
            known[pair] = own
        found.places.append(ComingPlace(known[pair], place[1], place[0], str(place[0])))
    return found


def _by_place(coming: Coming) -> dict[_Place, ComingList]:
    return {
        (each.point, each.direction, each.of.family): each.of
        for each in coming.places
        if each.of.family is not None
    }


def _fill(own: ComingList, was: ComingList | None, will: ComingList | None) -> Action:
    """Write the rules for what two lists both permit, and return what becomes of the rest."""
    outer = [] if will is None else _rules(will)
    inner = [] if was is None else _rules(was)
    rest_outer = Action.PERMIT if will is None else will.otherwise or Action.DENY
    rest_inner = Action.PERMIT if was is None else was.otherwise or Action.DENY
    for rule in outer:
        if rule.action is not Action.PERMIT:
            _add(own, [_bare(rule)])
        else:
            _add(own, _put_in(rule, inner, rest_inner))
    if rest_outer is not Action.PERMIT:
        return rest_outer
    _add(own, [_bare(each) for each in inner])
    return rest_inner


def _rules(own: ComingList) -> list[Rule]:
    """Return the rules of a list that are in force; a permit that has lost one of its conditions is
    not.
    """
    return [each.rule for each in own.items() if not each.lost]


def _bare(rule: Rule) -> Rule:
    return rule._replace(number=None, part=1, parts=1, comment="")


def _add(own: ComingList, rules: Sequence[Rule]) -> None:
    if len(own.rules) + len(rules) > MOST_RULES:
        raise PlanError(f"the first half of the step of {own.name} has over {MOST_RULES:,} lines")
    for rule in rules:
        own.add(rule)


def _put_in(permit: Rule, inner: Sequence[Rule], rest: Action) -> list[Rule]:
    """Return the old list limited to what one rule permits."""
    found = list[Rule]()
    whole = _bare(permit)
    for each in inner:
        shared = both(whole, each)
        if shared is None:
            continue
        if shared == whole:  # nothing is left for those below
            last = whole._replace(action=each.action, log=each.log)
            break
        found.append(shared._replace(action=each.action, log=each.log))
    else:
        last = whole._replace(action=rest)
    while found and found[-1].action is last.action:
        found.pop()
    return [*found, last]


def both(one: Rule, other: Rule) -> Rule | None:
    """Return what two rules both ask for, as a rule like the first; None where no packet matches
    both.
    """
    source = common(one.source, other.source)
    destination = common(one.destination, other.destination)
    source_ports = _both_ports(one.source_ports, other.source_ports)
    ports = _both_ports(one.destination_ports, other.destination_ports)
    flags = both_flags([each for each in (one.flags, other.flags) if each])
    single = {
        name: (getattr(one, name), getattr(other, name))
        for name in ("protocol", "icmp_type", "icmp_code", "dscp")
    }
    if (
        source is None
        or destination is None
        or () in (source_ports, ports)
        or any(test.value & ~test.care for test in flags)
        or any(None not in each and each[0] != each[1] for each in single.values())
    ):
        return None
    return one._replace(
        source=source,
        destination=destination,
        source_ports=source_ports,
        destination_ports=ports,
        flags=flags,
        **{name: its if mine is None else mine for name, (mine, its) in single.items()},
    )


def _both_ports(one: Ports | None, other: Ports | None) -> Ports | None:
    """Return the ports that two rules both ask for; None asks nothing, () is no port at all."""
    if one is None or other is None:
        return other if one is None else one
    shared = ((max(a, c), min(b, d)) for (a, b), (c, d) in product(one, other))
    return tuple((first, last) for first, last in shared if first <= last)
