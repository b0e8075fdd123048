"""The least that claims need: a list for each subnet, near the source, that denies what no claim
permits.

1. Where a subnet's machines come in, an extended list permits what claims permit them to open, and
their answers to what claims permit others to open to them; `otherwise deny`. In IPv6 the messages
required by RFC 4861 and RFC 4890 come first.

2. An outside, which an entry can only write as any, is permitted after a denial of all inside
subnets.

3. A line is left out if all claims that hold with it hold without it, because a device is stateful
or because two claims say the same.

4. Where a list is placed already, nothing is written.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

from crossgate.core.answers.grid import service_in
from crossgate.core.answers.verify import Verifier
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.claim import Claim, Only, Promise
from crossgate.core.model.entry import Action, Kind
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, Point, Segment
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import claim_ends, is_elsewhere
from crossgate.core.sets.patterns import less
from crossgate.core.traffic.session import Session
from crossgate.core.wording.answers import answers_text, end_text
from crossgate.language import list_edits, placing
from crossgate.language.draft import Draft
from crossgate.language.reader import Reading
from crossgate.language.steps import free_name
from crossgate.language.twin import ERRORS, NEIGHBOURS


class _List(NamedTuple):
    """A list to be written: the lines that every IPv6 list needs, those for claims, and its
    place.
    """

    segment: str
    family: Family
    fixed: tuple[str, ...]
    lines: tuple[str, ...]
    points: tuple[Point, ...]

    def is_last(self, text: str) -> bool:
        """Whether no other line follows one."""
        return self.lines[-1] == text


class Least(NamedTuple):
    """Lists to be written, and the group of all inside subnets that some of them name, "" for
    none.
    """

    lists: tuple[_List, ...]
    group: str
    left: tuple[str, ...]
    """Subnets at which a list stands already."""


def least(
    reading: Reading, tell: Callable[[int, int], None] = lambda done, total: None
) -> Callable[[Draft], str]:
    """Return the edit that writes the lists. Raises `PlanError` where no claim permits anything, or
    lists are placed everywhere.

    `tell` is told how many lines have been tested, of how many.
    """
    plan = reading.plan
    if not any(isinstance(each, Only) or each.claim is Claim.PERMIT for each in plan.expectations):
        raise PlanError(
            f"{plan.files[0]} expects nothing to be permitted, so nothing would pass; write first "
            "what must: expect permit ..."
        )
    found = _written(plan)
    if not found.lists:
        raise PlanError(
            "lists stand already wherever machines come in, so there is none to write; mend edits "
            "these"
        )
    return _change(_pruned(reading, found, tell))


def _written(plan: Plan) -> Least:
    group = "inside"
    while group in plan.names():
        group += "-subnets"
    lists, left = list[_List](), dict[str, None]()
    for segment in plan.segments.values():
        points = tuple(
            each.point
            for device in plan.devices.values()
            for each in device.interfaces.values()
            if each.on == segment.name
        )
        for family in Family:
            if (
                segment.outside
                or not points
                or not any(each.family is family for each in segment.prefixes)
                or _is_link(plan, segment)
            ):
                continue
            if any((point, Direction.INBOUND, family) in plan.placed for point in points):
                left[segment.name] = None
                continue
            inward, outward = dict[str, None](), dict[str, None]()
            for promise in plan.expectations:
                for text, to_outside in _lines(plan, promise, segment, family):
                    (outward if to_outside else inward)[text] = None
            closed = [f"deny ip {segment.name} to {group}"] if outward else []
            fixed = (NEIGHBOURS, ERRORS) if family is Family.IPV6 else ()
            lists.append(_List(segment.name, family, fixed, (*inward, *closed, *outward), points))
    return Least(tuple(lists), group, tuple(left))


def _is_link(plan: Plan, segment: Segment) -> bool:
    """Whether only devices, at least two, are attached to a subnet: what comes in there may come
    from anywhere.
    """
    devices = {
        device.name
        for device in plan.devices.values()
        for each in device.interfaces.values()
        if each.on == segment.name
    }
    return len(devices) > 1 and not any(each.on == segment.name for each in plan.hosts.values())


def _lines(
    plan: Plan, promise: Promise, segment: Segment, family: Family
) -> Iterator[tuple[str, bool]]:
    """Yield the entries that a claim needs where machines of a subnet come in, each with whether it
    is for an outside.
    """
    if not isinstance(promise, Only) and (
        promise.claim is not Claim.PERMIT or promise.over not in (None, family)
    ):
        return
    own = [block for block in segment.prefixes if block.family is family]
    here, far = claim_ends(plan, promise, family)
    destination = "any" if is_elsewhere(plan, promise) else end_text(plan, promise.destination)
    to_outside = far.outside is not None and not is_elsewhere(plan, promise)
    leaves = (
        here.outside is None
        and _shares(here.patterns, own)
        and (far.outside is not None or bool(less(far.patterns, own)))
    )
    answers = (
        far.outside is None
        and _shares(far.patterns, own)
        and (here.outside is not None or bool(less(here.patterns, own)))
    )
    for service in promise.services:
        if service_in(plan, service, family) is None:
            continue
        if leaves:
            port = (
                ""
                if isinstance(promise, Only) or promise.source_port is None
                else f" source port {promise.source_port}"
            )
            yield (
                f"permit {service} {end_text(plan, promise.source)} to {destination}{port}",
                to_outside,
            )
        if answers:
            far_end = segment.name if is_elsewhere(plan, promise) else promise.destination
            for text in answers_text(plan, service, family, far_end, promise.source):
                yield text, here.outside is not None


def _shares(patterns: Sequence[Pattern], own: Sequence[Pattern]) -> bool:
    return any(one.overlaps(other) for one in patterns for other in own)


def _pruned(reading: Reading, found: Least, tell: Callable[[int, int], None]) -> Least:
    """Leave out the lines without which all claims that hold with them still hold."""
    plan = _tried(reading, found)
    session = Session(plan)
    verifier = Verifier(session)
    held = [index for index, each in enumerate(plan.expectations) if verifier.verify(each).held]
    total = sum(len(each.lines) for each in found.lists)
    done = 0
    for number in range(len(found.lists)):
        for text in reversed(found.lists[number].lines):
            done += 1
            tell(done, total)
            own = found.lists[number]
            if text.startswith("deny") and not own.is_last(text):
                continue  # what follows it is about any, and it keeps that from the inside
            fewer = own._replace(lines=tuple(each for each in own.lines if each != text))
            tried = found._replace(lists=(*found.lists[:number], fewer, *found.lists[number + 1 :]))
            without = _tried(reading, tried)
            again = Verifier(Session(without, beside=session))
            if all(again.verify(without.expectations[index]).held for index in held):
                found = tried
    return found


def _tried(reading: Reading, found: Least) -> Plan:
    draft = Draft(reading)
    _change(found)(draft)
    return reading.changed(draft.result()).plan


def _change(found: Least) -> Callable[[Draft], str]:
    def change(draft: Draft) -> str:
        plan, names = draft.plan, set[str]()
        if any(f" {found.group}" in text for each in found.lists for text in each.lines):
            inside = [name for name, each in plan.segments.items() if not each.outside]
            last = [
                *(each.place for each in plan.segments.values()),
                *(each.place for each in plan.groups.values()),
            ][-1]
            draft.after(last, f"group {found.group} {', '.join(inside)}")
        for each in found.lists:
            name = free_name(plan, each.points[0], Direction.INBOUND, each.family)
            while name in names:
                name += "x"
            names.add(name)
            list_edits.new_list(
                draft, name, Kind.EXTENDED, each.family, (*each.fixed, *each.lines), Action.DENY
            )
            if not (each.fixed or each.lines):
                draft.append(
                    f'accept nothing-permitted in {name} "no expectation permits {each.segment} '
                    'anything"'
                )
            for point in each.points:
                placing.place_list(
                    draft,
                    list_edits.empty_list(name, Kind.EXTENDED, each.family),
                    Direction.INBOUND,
                    point,
                )
        lines = sum(len(each.lines) for each in found.lists)
        if found.left:
            draft.remarks.append(
                f"a list stands already where {', '.join(found.left)} comes in; it is left as it is"
            )
        return (
            f"{len(found.lists)} lists with {lines} lines permit what claims do, and deny the "
            "rest where machines come in"
        )

    return change
