"""What runs on a device, put into the plan; and how it differs from what the plan says."""

from __future__ import annotations

from collections.abc import Mapping
from copy import deepcopy
from datetime import datetime
from pathlib import Path
from typing import Any

from crossgate.core.answers.compare import differences
from crossgate.core.answers.drift import Drift, in_force
from crossgate.core.lists.difference import compare_lists
from crossgate.core.lists.split import ListRegions
from crossgate.core.model.accesslist import AccessList, AnyList, DeciderKey
from crossgate.core.model.condition import State
from crossgate.core.model.errors import PlanError
from crossgate.core.model.ethernet import EthernetList
from crossgate.core.model.network import PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.formats.exchange.asked import Given
from crossgate.formats.exchange.ietf import read
from crossgate.language import placing
from crossgate.language.coming import Coming
from crossgate.language.draft import Draft
from crossgate.language.importing import take_in
from crossgate.language.reader import Reading
from crossgate.live.devices import RunningConfiguration

_CARRIED = (PointKind.INTERFACE, PointKind.PORT)
"""Places of lists that the models can tell of."""


def coming_from(plan: Plan, running: RunningConfiguration) -> Coming:
    """Return the lists that run on a device, and their places, as an import into the plan. Raises
    `PlanError` for what a plan cannot say.
    """
    path = Path(f"{running.device}.xml")
    return read(Given(path, running.document, plan, running.device, less=True))


def put_in(draft: Draft, coming: Coming, device: str) -> tuple[str, dict[DeciderKey, int]]:
    """Put what runs on a device into a plan: its lists, their places, and the device; and remove
    placements that the device does not have. Raises `PlanError`.
    """
    standing = {(each.of.name, each.direction, each.point) for each in coming.places}
    gone = [
        each
        for each in draft.plan.every_placement
        if each.point.device == device
        and each.point.kind in _CARRIED
        and (each.access_list, each.direction, each.point) not in standing
    ]
    replaced = {(each.direction, each.point, each.of.family) for each in coming.places}
    for each in gone:
        own = draft.plan.any_list(each.access_list)
        if (each.direction, each.point, getattr(own, "family", None)) not in replaced:
            placing.lift_list(draft, own, each.direction, each.point)
    return take_in(draft, [coming], replace=True)


def leave_what_is_the_same(
    reading: Reading, coming: Coming, device: str, at: datetime
) -> dict[DeciderKey, int]:
    """Remove from what runs on a device what the plan says too, so that the plan's own words and
    notes stay; return how often the lines of all its lists have decided there. Raises `PlanError`.
    """
    draft = Draft(reading)
    _, decided = put_in(draft, deepcopy(coming), device)
    new = draft.result()
    if not new:
        return decided
    changed = reading.changed(new).plan
    old, now = in_force(reading.plan, at), in_force(changed, at)
    left = {each.name for each in coming.lists if _are_the_same(old, now, each.name)}
    coming.lists = [each for each in coming.lists if each.name not in left]
    if reading.plan.devices.get(device) == changed.devices.get(device):
        coming.devices = []
    lists = reading.plan.every_list
    return {
        line: hits
        for line, hits in decided.items()
        if line.access_list not in left
        or line.entry is None
        or any(each.number == line.entry for each in lists[line.access_list].entries)
    }


def are_the_same_on(old: Plan, new: Plan, device: str) -> bool:
    """Whether the lists at a device's interfaces and ports treat every packet and frame alike in
    two plans, whatever they are called.
    """
    return all(
        _do_the_same(own.get(place), its.get(place))
        for own, its in ((old.asked, new.asked), (old.framed, new.framed))
        for place in {*own, *its}
        if place[0].device == device and place[0].kind in _CARRIED
    )


def _are_the_same(old: Plan, new: Plan, name: str) -> bool:
    """Whether a list treats every packet or frame alike in two plans."""
    return _do_the_same(old.every_list.get(name), new.every_list.get(name))


def _do_the_same(one: AnyList[Any] | None, other: AnyList[Any] | None) -> bool:
    if isinstance(one, EthernetList) and isinstance(other, EthernetList):
        return one.says == other.says
    if not isinstance(one, AccessList) or not isinstance(other, AccessList):
        return False
    if one.family is not other.family or one.limits or one.tls:
        return False
    state: State = frozenset()
    return not any(compare_lists(ListRegions(one, state), ListRegions(other, state)))


def with_what_runs(reading: Reading, coming: Mapping[str, Coming]) -> Plan:
    """Return the plan in which some devices have what runs on them. Raises `PlanError`."""
    draft = Draft(reading)
    for device, own in coming.items():
        mine = deepcopy(own)
        call_apart(reading.plan, mine, device)
        put_in(draft, mine, device)
    new = draft.result()
    return reading.changed(new).plan if new else reading.plan


def drift_of(reading: Reading, running: RunningConfiguration, at: datetime) -> Drift:
    """Return how what runs on a device differs from what the plan says for a time."""
    plan = reading.plan
    if running.why:
        return Drift(running.device, running.why, plan, [], False, ())
    try:
        coming = coming_from(plan, running)
        call_apart(plan, coming, running.device)
        draft = Draft(reading)
        put_in(draft, coming, running.device)
        new = draft.result()
        changed = reading.changed(new).plan if new else plan
    except PlanError as error:
        return Drift(running.device, error.message, plan, [], False, ())
    found = differences(Session(in_force(plan, at)), Session(in_force(changed, at))) if new else []
    return Drift(running.device, "", changed, found, bool(new), tuple(coming.told))


def call_apart(plan: Plan, coming: Coming, device: str) -> None:
    """Give names of their own to lists that are on other devices too: what one device runs says
    nothing about the others.
    """
    elsewhere = {each.access_list for each in plan.every_placement if each.point.device != device}
    for own in coming.lists:
        if own.name in elsewhere:
            own.name = f"{device}-{own.name}"
